"""The engine: one long-lived process that reads and bakes, and the thread that watches over it.

The process keeps scenes warm. If it dies, the running job says so and the next one gets a fresh process. Jobs and
answers bear numbers: an answer to another job than the one at work is dropped, and a process that answers what cannot
be understood is ended. A job that its user stops is ended with its process if it does not stop in time; one that
is only out of date is left to stop when it can, so that what is warm stays.
"""

import itertools
import logging
import multiprocessing
import threading
import time
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass, field
from typing import Any

from .memory_watch import NO_ROOM
from .messages import OUT_OF_MEMORY, QUICK, Asked, Done, Job, Told
from .worker import run

STOP_WITHIN = 0.4
LOOK_EVERY = 0.02
CANCELLED = "Cancelled."

log = logging.getLogger(__name__)


class JobFailed(Exception):
    """A job ended without a result; `kind` as in `messages.Failed`, or "died" when its process ended."""

    def __init__(self, kind: str, message: str, detail: str = "") -> None:
        super().__init__(message)
        self.kind, self.message, self.detail = kind, message, detail


@dataclass(slots=True)
class Ticket:
    """A job handed in: wait on `future`, or `stop` it."""

    job: Job
    on_start: Callable[[], None]
    on_progress: Callable[[str, float], None]
    engine: "Engine"
    future: Future[Any] = field(default_factory=Future)
    stopped: threading.Event = field(default_factory=threading.Event)
    patient: bool = True

    def stop(self, patient: bool = False) -> None:
        """End the job: at once if it waits, else as soon as it listens.

        A `patient` stop, of a job whose answer nobody wants any more, never costs the process and what it keeps warm.
        """
        self.engine.stop(self, patient)


class Engine:
    """Runs one job at a time in its process, in the order they were handed in."""

    def __init__(self) -> None:
        self._waiting: deque[Ticket] = deque()
        self._changed = threading.Condition()
        self._numbers = itertools.count(1)
        self._context = multiprocessing.get_context("spawn")
        self._process: Any = None
        self._pipe: Any = None
        self._cancel: Any = None
        self._current: Ticket | None = None
        self.told = Told(0, "", 0.0)  # what the job at work said last
        self._closing = threading.Event()
        self._thread = threading.Thread(target=self._serve, name="engine", daemon=True)
        self._thread.start()

    def submit(
        self,
        job: Job,
        on_progress: Callable[[str, float], None] = lambda stage, share: None,
        on_start: Callable[[], None] = lambda: None,
    ) -> Ticket:
        """Hand in a job. Its future gives the result or raises JobFailed.

        What `on_start` and `on_progress` raise is logged and changes nothing: they only keep books.
        """
        ticket = Ticket(job, on_start, on_progress, self)
        with self._changed:
            self._waiting.append(ticket)
            self._changed.notify()
        return ticket

    def stop(self, ticket: Ticket, patient: bool = False) -> None:
        """See `Ticket.stop`."""
        with self._changed:
            ticket.patient = ticket.patient and patient
            ticket.stopped.set()
            if ticket not in self._waiting:
                return
            self._waiting.remove(ticket)
        if ticket.future.set_running_or_notify_cancel():
            ticket.future.set_exception(JobFailed("cancelled", CANCELLED))

    @property
    def busy(self) -> bool:
        """Whether a job is at work or waiting that takes longer than following a pointer does."""
        with self._changed:
            tickets = [self._current, *self._waiting]
        return any(t is not None and not isinstance(t.job, QUICK) for t in tickets)

    @property
    def process_id(self) -> int | None:
        return self._process.pid if self._process is not None else None

    def close(self) -> None:
        """End the process, and whatever it is doing."""
        with self._changed:
            self._closing.set()
            self._changed.notify()
        self._thread.join(timeout=5)

    def _serve(self) -> None:
        self._spawn()
        while (ticket := self._next()) is not None:
            result: Any = None
            failed: Exception | None = None
            try:
                _keep_books(ticket.on_start)
                result = self._run(ticket)
            except JobFailed as error:
                failed = error
            except Exception as error:  # of this side: the pipe may hold anything now
                log.exception("The engine could not follow a job")
                self._end_process()
                failed = JobFailed("fault", f"Something went wrong inside the program ({error}).")
            with self._changed:
                self._current = None
            if failed:
                ticket.future.set_exception(failed)
            else:
                ticket.future.set_result(result)
        self._end_process()

    def _next(self) -> Ticket | None:
        """The job whose turn it is, now at work; None when the engine closes."""
        with self._changed:
            while True:
                while not self._waiting and not self._closing.is_set():
                    self._changed.wait()
                if self._closing.is_set():
                    return None
                ticket = self._waiting.popleft()
                if ticket.future.set_running_or_notify_cancel():
                    self._current = ticket
                    return ticket

    def _spawn(self) -> None:
        ours, theirs = self._context.Pipe()
        self._cancel = self._context.Event()
        self._process = self._context.Process(
            target=run, args=(theirs, self._cancel), name="inkwell-engine", daemon=True
        )
        self._process.start()
        theirs.close()
        self._pipe = ours

    def _end_process(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.join()
            self._pipe.close()
            self._process = None

    def _run(self, ticket: Ticket) -> Any:
        if self._process is None or not self._process.is_alive():
            self._end_process()
            self._spawn()
        number = next(self._numbers)
        self.told = Told(number, "", 0.0)
        try:
            self._cancel.clear()  # here, not in the process: a stop that comes before it begins must not be lost
            self._pipe.send(Asked(number, ticket.job))
            return self._follow(ticket, number)
        except (EOFError, BrokenPipeError, ConnectionResetError):
            raise self._died() from None

    def _follow(self, ticket: Ticket, number: int) -> Any:
        """Wait for the answer to job `number`; raises JobFailed, or EOFError when the process ended."""
        asked_to_stop = 0.0
        while True:
            if self._pipe.poll(LOOK_EVERY):
                message = self._pipe.recv()
                if isinstance(message, Told):
                    self.told = message  # also of the compiling before the first job
                    if message.number in (number, 0):
                        _keep_books(ticket.on_progress, message.stage, message.share)
                elif message.number == number:
                    if isinstance(message, Done):
                        return message.result
                    raise JobFailed(message.kind, message.message, message.detail)
            elif self._closing.is_set():
                raise JobFailed("died", "The program was closed during this job.")
            if ticket.stopped.is_set():
                if not asked_to_stop:
                    self._cancel.set()
                    asked_to_stop = time.monotonic()
                elif not ticket.patient and time.monotonic() - asked_to_stop > STOP_WITHIN:
                    self._end_process()
                    self._spawn()
                    raise JobFailed("cancelled", CANCELLED)

    def _died(self) -> JobFailed:
        self._process.join(timeout=1)
        code = self._process.exitcode
        self._end_process()
        if code == NO_ROOM:
            return JobFailed("memory", OUT_OF_MEMORY)
        how = f"signal {-code}" if code is not None and code < 0 else f"code {code}"
        return JobFailed(
            "died", f"The baking process ended unexpectedly ({how}). Nothing else was lost; start the bake again."
        )


def _keep_books(write: Callable[..., None], *values: Any) -> None:
    """Tell the books of a job something; that they cannot be written must not harm the job."""
    try:
        write(*values)
    except Exception:
        log.warning("The progress of a job could not be written down", exc_info=True)
