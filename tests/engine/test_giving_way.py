"""Which job is done when, told of engines whose process is a thread that answers what it is told to."""

import contextlib
import multiprocessing
import threading
import time

import pytest

from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.engine.engine import Engine
from inkwell_cast.engine.messages import CheckPiece, Load, RimsOf
from inkwell_cast.engine.ticket import JobFailed, State
from inkwell_cast.engine.told import Done, Failed, Told

from .waiting import wait


class Stuttering(Engine):
    """An engine whose process first repeats an old answer, then says what cannot be understood, then answers."""

    def _spawn(self):
        self._pipe, theirs = multiprocessing.Pipe()
        self._process, self._cancel = threading.current_thread(), threading.Event()

        def serve():
            with contextlib.suppress(EOFError):
                while True:
                    self.reply(theirs, theirs.recv())

        threading.Thread(target=serve, daemon=True).start()

    def reply(self, pipe, asked):
        pipe.send(Done(asked.number - 1, "stale"))
        pipe.send(Told(asked.number + 7, "stale", 0.5))
        pipe.send(Done(asked.number, asked.job))

    def _end_process(self):
        self._process = None


def test_an_answer_to_another_job_is_dropped():
    engine, told = Stuttering(), []
    for job in (Load("first", "a.obj", "b"), Load("second", "a.obj", "b")):
        assert wait(engine.submit(job, lambda stage, share: told.append(stage))) == job
    assert told == []
    engine.close()


class JustAnswered(Stuttering):
    """An engine whose process had answered its job when what follows the pointer came, and takes it for that job."""

    def reply(self, pipe, asked):
        if isinstance(asked.job, RimsOf):
            pipe.send(Done(asked.number, "drawn"))
            return
        quick = pipe.recv()
        pipe.send(Failed(quick.number, "cancelled", "Cancelled."))
        pipe.send(Done(asked.number, "answered"))


def test_what_follows_the_pointer_is_not_ended_with_the_job_in_whose_midst_it_came():
    engine = JustAnswered()
    long = engine.submit(Load("first", "a.obj", "b"))
    quick = engine.submit(RimsOf(Recipe(), [], [], None, False))
    assert (wait(long), wait(quick)) == ("answered", "drawn")
    engine.close()


class GivingWay(Stuttering):
    """An engine whose process works at its first job until it is told to stop."""

    def __init__(self):
        self.begun = []
        super().__init__()

    def reply(self, pipe, asked):
        self.begun.append(type(asked.job).__name__)
        if len(self.begun) == 1:
            self._cancel.wait(10)
            pipe.send(Failed(asked.number, "cancelled", "Cancelled."))
        else:
            pipe.send(Done(asked.number, "done"))


def test_a_job_that_gave_way_begins_again_after_what_was_more_urgent():
    engine = GivingWay()
    checks = engine.submit(CheckPiece(Recipe(), []))
    while not engine.begun:
        time.sleep(0.01)
    file = engine.submit(Load("a", "a.obj", "b"))
    assert wait(file, 10) == "done"
    assert wait(checks, 10) == "done"
    assert engine.begun == ["CheckPiece", "Load", "CheckPiece"]
    engine.close()


def test_a_job_that_gives_up_by_itself_is_not_begun_for_ever():
    """Only what gives way is begun again."""

    class GivingUp(Stuttering):
        def reply(self, pipe, asked):
            pipe.send(Failed(asked.number, "cancelled", "Cancelled."))

    engine = GivingUp()
    with pytest.raises(JobFailed, match=r"Cancelled\."):
        wait(engine.submit(Load("a", "a.obj", "b")), 10)
    engine.close()


def test_what_a_job_waited_is_no_part_of_its_pace():
    engine = GivingWay()
    first = engine.submit(CheckPiece(Recipe(), []))
    while not engine.begun:
        time.sleep(0.01)
    second = engine.submit(CheckPiece(Recipe(), []))
    handed_in = second.remaining.began
    time.sleep(0.3)
    first.stop()
    assert wait(second, 10) == "done"
    assert second.remaining.began >= handed_in + 0.3
    engine.close()


class Holding(GivingWay):
    """One whose process holds its second job until it is let go."""

    def __init__(self):
        self.let_go = threading.Event()
        super().__init__()

    def reply(self, pipe, asked):
        if len(self.begun) == 1:
            self.let_go.wait(10)
        super().reply(pipe, asked)


def gave_way(engine):
    """Checks that gave way to a file, which is at work now."""
    checks = engine.submit(CheckPiece(Recipe(), []))
    while not engine.begun:
        time.sleep(0.01)
    file = engine.submit(Load("a", "a.obj", "b"))
    while checks.state is not State.WAITING:
        time.sleep(0.01)
    return checks, file


def test_a_job_that_gave_way_is_stopped_while_it_waits():
    engine = Holding()
    checks, file = gave_way(engine)
    checks.stop()
    with pytest.raises(JobFailed, match=r"Cancelled\."):
        wait(checks, 5)
    engine.let_go.set()
    assert wait(file, 10) == "done"
    assert engine.begun == ["CheckPiece", "Load"]
    engine.close()


def test_closing_tells_those_who_wait():
    engine = Holding()
    waiting = [*gave_way(engine), engine.submit(CheckPiece(Recipe(), []))]
    engine.close()
    late = engine.submit(Load("a", "a.obj", "b"))
    for ticket in (*waiting, late):
        with pytest.raises(JobFailed, match="closed"):
            wait(ticket, 1)
