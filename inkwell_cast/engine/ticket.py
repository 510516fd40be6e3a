"""A job handed in: its state, what it told last, and the one way in which it ends."""

import enum
import itertools
import threading
import time
from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from ..core.base.progress import Progress
from .messages import Job
from .remaining_time import RemainingTime
from .told import Told

if TYPE_CHECKING:
    from .engine import Engine

NUMBERS = itertools.count(1)


class JobFailed(Exception):
    """A job ended without a result; `kind` as in `messages.Failed`, or "died" when its process ended."""

    def __init__(self, kind: str, message: str, detail: str = "") -> None:
        super().__init__(message)
        self.kind, self.message, self.detail = kind, message, detail


class State(enum.Enum):
    """Where a job stands."""

    WAITING = "waiting"  # for its turn, or for it again after it gave way
    AT_WORK = "at work"
    ENDED = "ended"


@dataclass(slots=True, eq=False)
class Ticket:
    """A job handed in: wait on `future`, or `stop` it. `piece_id` is the piece that it is for, if it is for one.

    `began` is when it was last set to work, seconds of `time.monotonic`; None before the first time. `told` is what it
    said last, and `pace` tells how long it still takes.
    """

    job: Job
    on_start: Callable[[], None]
    on_progress: Progress
    engine: "Engine"
    piece_id: int | None = None
    on_part: Callable[[Any], None] = lambda part: None
    number: int = field(default_factory=lambda: next(NUMBERS))
    future: Future[Any] = field(default_factory=Future)
    state: State = State.WAITING
    stopped: threading.Event = field(default_factory=threading.Event)  # it is to end
    patient: bool = True  # but may take its time
    again: bool = False  # it was begun anew, since its process was ended from outside
    began: float | None = None
    told: Told = field(default_factory=lambda: Told(0, "", 0.0))
    remaining: RemainingTime = field(default_factory=RemainingTime)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def stop(self, patient: bool = False) -> None:
        """End the job: at once if it waits, else as soon as it listens.

        A `patient` stop, of a job whose answer nobody wants any more, never costs the process and what it keeps warm.
        """
        self.engine.stop(self, patient)

    def begin(self) -> bool:
        """Set it to work; False for one that has ended, or that nobody waits for any more."""
        with self._lock:
            if self.state is State.ENDED or not self._claimed():
                self.state = State.ENDED
                return False
            self.state = State.AT_WORK
        self.began, self.remaining = time.monotonic(), RemainingTime()  # what it waited is no part of its pace
        return True

    def give_way(self) -> None:
        """Let it wait for its turn again."""
        with self._lock:
            if self.state is State.AT_WORK:
                self.state = State.WAITING

    def end(self, result: Any = None, failed: Exception | None = None) -> None:
        """Give those who wait its result, or why there is none. Only the first call does something."""
        with self._lock:
            if self.state is State.ENDED:
                return
            self.state = State.ENDED
            if not self._claimed():
                return
        if failed is not None:
            self.future.set_exception(failed)
        else:
            self.future.set_result(result)

    def _claimed(self) -> bool:
        """Whether somebody still waits for it; from then on the one who waits cannot take the future back."""
        return self.future.running() or (not self.future.done() and self.future.set_running_or_notify_cancel())
