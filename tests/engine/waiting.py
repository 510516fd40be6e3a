"""What a ticket comes to, waited for."""


def wait(ticket, seconds=300):
    return ticket.future.result(timeout=seconds)
