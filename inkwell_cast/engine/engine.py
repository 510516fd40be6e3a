"""An engine: one long-lived process that reads, measures or bakes, and the thread that watches over it.

The process keeps scenes warm. If it dies, the running job says so and the next one gets a fresh process. Jobs and
answers bear numbers: an answer to another job than those at work is dropped, and a process that answers what cannot
be understood is ended. A job that its user stops is ended with its process if it does not stop in time; one that
is only out of date is left to stop when it can, so that what is warm stays.

Jobs wait by their rank (`priority.Rank`). Those that follow the pointer are answered in the midst of the one at work;
one that gives way begins again after what is more urgent.
"""

import itertools
import logging
import multiprocessing
import signal
import threading
import time
from collections import deque
from collections.abc import Callable
from typing import Any

from .. import kernel_cache
from ..core.base.progress import Progress
from .memory_watch import NO_ROOM
from .messages import OUT_OF_MEMORY, Job
from .priority import Extent
from .process import run
from .ticket import JobFailed, Ticket
from .told import Asked, Done, Failed, Partly, Told

STOP_WITHIN = 0.3  # seconds: a press on Cancel is answered within half of one
LOOK_EVERY, LOOK_UNREADY = 0.01, 0.05
COMPILED_WITHIN = 600.0  # seconds from the start; after that who needs a kernel compiles it
CANCELLED = "Cancelled."
FROM_OUTSIDE = {-signal.SIGTERM, -getattr(signal, "SIGKILL", signal.SIGTERM)}  # exit codes
CLOSED = "The program was closed before this job."

log = logging.getLogger(__name__)


class _EndedFromOutside(JobFailed):
    """The process of a job was ended by a signal that no fault of its own sends."""


class _GaveWay(Exception):
    """A job ended for one that is more urgent, and is to begin again."""


class Engine:
    """Runs one job at a time in its process, the most urgent first, else in the order they were handed in.

    `name` is that of its process, `niceness` what that leaves of the processor to others (0 for nothing, to 19), and
    `after` an engine that is to be ready, or a job handed in here, before the process is started. Full bakes are traced
    by the workers of the `cluster` at an address, if there is one. `when_asked` starts the process with the first job,
    and `extent` says what it compiles before that.
    """

    def __init__(
        self,
        name: str = "engine",
        niceness: int = 0,
        after: "Engine | None" = None,
        cluster: str = "",
        when_asked: bool = False,
        extent: Extent = "all",
    ) -> None:
        self.name, self._niceness, self._after, self._cluster = name, niceness, after, cluster
        self._when_asked, self._extent, self._compiled_by = when_asked, extent, time.monotonic() + COMPILED_WITHIN
        self._kernels = kernel_cache.folder() if extent == "first" else None
        self._waiting: deque[Ticket] = deque()
        self._inner: dict[int, Ticket] = {}  # by number, those that the process answers in the midst of another
        self._changed = threading.Condition()
        self._numbers = itertools.count(1)
        self._context = multiprocessing.get_context("spawn")
        self._process: Any = None
        self._pipe: Any = None
        self._cancel: Any = None
        self._current: Ticket | None = None
        self.told = Told(0, "", 0.0)  # what the job at work said last
        self._closing, self.ready = threading.Event(), threading.Event()
        self._thread = threading.Thread(target=self._serve, name=name, daemon=True)
        self._thread.start()

    def submit(
        self,
        job: Job,
        on_progress: Progress = lambda stage, share: None,
        on_start: Callable[[], None] = lambda: None,
        piece_id: int | None = None,
        on_part: Callable[[Any], None] = lambda part: None,
    ) -> Ticket:
        """Hand in a job. Its future gives the result or raises JobFailed.

        `on_part` hears what there is of the result before that. What it, `on_start` and `on_progress` raise is logged
        and changes nothing: they only keep books.
        """
        ticket = Ticket(job, on_start, on_progress, self, piece_id, on_part)
        with self._changed:
            if self._closing.is_set():
                ticket.end(failed=JobFailed("died", CLOSED))
                return ticket
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
        ticket.end(failed=JobFailed("cancelled", CANCELLED))

    @property
    def busy(self) -> bool:
        """Whether a job is at work or waiting that takes longer than following a pointer does."""
        return any(not ticket.job.QUICK for ticket in self.tickets)

    @property
    def tickets(self) -> list[Ticket]:
        """The job at work, and those that wait."""
        with self._changed:
            return [t for t in (self._current, *self._inner.values(), *self._waiting) if t is not None]

    @property
    def compiling(self) -> float | None:
        """The share of what is compiled before the first job that is there; None where nothing is."""
        return self.told.share if self.told.stage == "compiling" and not self.ready.is_set() else None

    @property
    def process_id(self) -> int | None:
        return self._process.pid if self._process is not None else None

    def close(self) -> None:
        """End the process, whatever it is doing, and what waits."""
        with self._changed:
            self._closing.set()
            self._changed.notify()
        self._thread.join(timeout=5)
        self._end_all_waiting()

    def _serve(self) -> None:
        while self._after and not (self._after.ready.wait(LOOK_EVERY) or self._closing.is_set()):
            if self._waiting and self._after.told.stage != "compiling":  # which two at once would only do twice
                break
        with self._changed:
            while self._when_asked and not self._waiting and not self._closing.is_set():
                self._changed.wait()
        self._spawn()
        while (taken := self._next()) is not None:
            ticket, first = taken
            result: Any = None
            failed: Exception | None = None
            try:
                if first:
                    _keep_books(ticket.on_start)
                result = self._run(ticket)
            except _GaveWay:
                self._wait_again(ticket)
                continue
            except JobFailed as error:
                if self._begins_again(ticket, error):
                    continue
                failed = error
            except Exception as error:  # of this side: the pipe may hold anything now
                log.exception("The engine could not follow a job")
                self._end_process()
                failed = JobFailed("fault", f"Something went wrong inside the program ({error}).")
            with self._changed:
                self._current = None
            ticket.end(result, failed)
        self._end_process()

    def _wait_again(self, ticket: Ticket) -> None:
        """Put the job at work back, before all others of its rank."""
        with self._changed:
            self._current = None
            ticket.give_way()
            self._waiting.appendleft(ticket)

    def _begins_again(self, ticket: Ticket, error: JobFailed) -> bool:
        """Whether a job waits to be done once more, since its process was ended by something outside it."""
        if not isinstance(error, _EndedFromOutside) or ticket.again or ticket.stopped.is_set():
            return False
        ticket.again = True
        self._wait_again(ticket)
        return True

    def _next(self) -> tuple[Ticket, bool] | None:
        """The job whose turn it is, now at work, and whether for the first time; None when the engine closes."""
        with self._changed:
            while True:
                while not (able := self._able()) and not self._closing.is_set():
                    self._changed.wait(None if self.ready.is_set() and not self._waiting else LOOK_UNREADY)
                    self._hear_of_the_start()
                if self._closing.is_set():
                    return None
                ticket = min(able, key=lambda waiting: waiting.job.rank)
                self._waiting.remove(ticket)
                first = ticket.began is None
                if ticket.begin():
                    self._current = ticket
                    return ticket, first

    def _able(self) -> list[Ticket]:
        """Those that wait and can be done now: what judges waits until another process has compiled all kernels."""
        if self._extent == "first" and any(waiting.job.JUDGES for waiting in self._waiting):
            if kernel_cache.complete(self._kernels) or time.monotonic() > self._compiled_by:
                self._extent = "all"
            else:
                return [waiting for waiting in self._waiting if not waiting.job.JUDGES]
        return list(self._waiting)

    def _hear_of_the_start(self) -> None:
        """Hear how far the process is that compiles or loads what jobs need."""
        try:
            while not self.ready.is_set() and self._pipe.poll():
                message = self._pipe.recv()
                self.told = message
                self._note_ready(message)
        except (EOFError, OSError):
            self.ready.set()  # it died; the first job starts another

    def _note_ready(self, told: Any) -> bool:
        """Whether the process told that it is ready for jobs."""
        if isinstance(told, Told) and told.number == 0 and told.share >= 1:
            self.ready.set()
            return True
        return False

    def _spawn(self) -> None:
        ours, theirs = self._context.Pipe()
        self._cancel = self._context.Event()
        self._process = self._context.Process(
            target=run,
            args=(theirs, self._cancel, self._niceness, self._cluster, self._extent),
            name=f"inkwell-{self.name}",
            daemon=True,
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
        self.told = ticket.told = Told(number, "", 0.0)
        try:
            self._cancel.clear()  # here, not in the process: a stop that comes before it begins must not be lost
            self._pipe.send(Asked(number, ticket.job))
            return self._follow(ticket, number)
        except (EOFError, BrokenPipeError, ConnectionResetError):
            raise self._died() from None
        finally:
            for inner in self._all_inner():  # what the process can no longer answer
                inner.end(failed=JobFailed("died", "The process that followed the pointer ended unexpectedly."))

    def _follow(self, ticket: Ticket, number: int) -> Any:
        """Wait for the answer to job `number`; raises JobFailed, _GaveWay, or EOFError when the process ended."""
        asked_to_stop, answer = 0.0, None
        while True:
            if self._pipe.poll(LOOK_EVERY):
                message = self._pipe.recv()
                if isinstance(message, Told):
                    self._heard(ticket, number, message)
                elif isinstance(message, Partly):
                    _keep_books(ticket.on_part, message.result)
                elif message.number == number:
                    answer = message
                elif message.number in self._inner:
                    self._end_inner(message)
            elif self._closing.is_set():
                raise JobFailed("died", "The program was closed during this job.")
            if answer is None:
                self._hand_on_inner()
            elif not self._inner:
                return self._ended(ticket, answer)
            if ticket.stopped.is_set() or self._gives_way(ticket):
                if not asked_to_stop:
                    self._cancel.set()
                    asked_to_stop = time.monotonic()
                elif ticket.stopped.is_set() and not ticket.patient and time.monotonic() - asked_to_stop > STOP_WITHIN:
                    self._process.kill()
                    ticket.end(failed=JobFailed("cancelled", CANCELLED))  # a large process takes its time to go
                    self._end_process()
                    self._spawn()
                    raise JobFailed("cancelled", CANCELLED)

    def _heard(self, ticket: Ticket, number: int, told: Told) -> None:
        """The process told how far it is."""
        self.told = told  # also of the compiling before the first job
        if self._note_ready(told):
            return
        if told.number in (number, 0):
            ticket.told = told
            ticket.remaining.heard(told.share)
            _keep_books(ticket.on_progress, told.stage, told.share)

    def _ended(self, ticket: Ticket, answer: Done | Failed) -> Any:
        """The result of a job; raises JobFailed or _GaveWay."""
        result, failed = _result_of(answer)
        if failed is None:
            return result
        if failed.kind == "cancelled" and ticket.job.GIVES_WAY and not ticket.stopped.is_set():
            raise _GaveWay
        raise failed

    def _gives_way(self, ticket: Ticket) -> bool:
        """Whether the job at work is to begin again after one that is more urgent."""
        if not ticket.job.GIVES_WAY:
            return False
        with self._changed:
            return any(waiting.job.rank < ticket.job.rank for waiting in self._waiting)

    def _hand_on_inner(self) -> None:
        """Send the process what it answers in the midst of the job at work."""
        with self._changed:
            taken = [waiting for waiting in self._waiting if waiting.job.QUICK]
            for ticket in taken:
                self._waiting.remove(ticket)
                if ticket.begin():
                    number = next(self._numbers)
                    self._inner[number] = ticket
                    self._pipe.send(Asked(number, ticket.job))

    def _end_inner(self, message: Done | Failed) -> None:
        """Give what follows the pointer its answer.

        A process that had just answered the job at work takes it for that, and ends it where that was to end: then it
        waits again.
        """
        result, failed = _result_of(message)
        with self._changed:
            inner = self._inner.pop(message.number)
            if failed and failed.kind == "cancelled" and not inner.stopped.is_set():
                inner.give_way()
                self._waiting.appendleft(inner)
                return
        inner.end(result, failed)

    def _end_all_waiting(self) -> None:
        """Tell those who wait for a job that was never begun, or is to begin again, that the program was closed."""
        with self._changed:
            left = [*self._waiting]
            self._waiting.clear()
        for ticket in left:
            ticket.end(failed=JobFailed("died", CLOSED))

    def _all_inner(self) -> list[Ticket]:
        with self._changed:
            taken = list(self._inner.values())
            self._inner.clear()
        return taken

    def _died(self) -> JobFailed:
        self._process.join(timeout=1)
        code = self._process.exitcode
        self._end_process()
        if code == NO_ROOM:
            return JobFailed("memory", OUT_OF_MEMORY)
        how = f"signal {-code}" if code is not None and code < 0 else f"code {code}"
        kind = _EndedFromOutside if code in FROM_OUTSIDE else JobFailed
        return kind(
            "died", f"The baking process ended unexpectedly ({how}). Nothing else was lost; start the bake again."
        )


def _result_of(answer: Done | Failed) -> tuple[Any, JobFailed | None]:
    if isinstance(answer, Done):
        return answer.result, None
    return None, JobFailed(answer.kind, answer.message, answer.detail)


def _keep_books(write: Callable[..., None], *values: Any) -> None:
    """Tell the books of a job something; that they cannot be written must not harm the job."""
    try:
        write(*values)
    except Exception:
        log.warning("The progress of a job could not be written down", exc_info=True)
