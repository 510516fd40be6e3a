"""The engine: one long-lived process that reads and bakes, and the thread that watches over it.

The process keeps scenes warm. If it dies, the running job says so and the next one gets a fresh process; a job that
does not heed its cancel in time is ended with its process.
"""

import multiprocessing
import queue
import threading
import time
from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass, field
from typing import Any

from .messages import QUICK, Done, Failed, Job, Told
from .worker import run

HEED_CANCEL_WITHIN = 0.4
LOOK_EVERY = 0.02


class JobFailed(Exception):
    """A job ended without a result; `kind` as in `messages.Failed`, or "died" when its process ended."""

    def __init__(self, kind: str, message: str, detail: str = "") -> None:
        super().__init__(message)
        self.kind, self.message, self.detail = kind, message, detail


@dataclass(slots=True)
class Ticket:
    """A job handed in: wait on `future`, or set `cancel`."""

    job: Job
    on_start: Callable[[], None]
    on_progress: Callable[[str, float], None]
    future: Future[Any] = field(default_factory=Future)
    cancel: threading.Event = field(default_factory=threading.Event)


class Engine:
    """Runs one job at a time in its process, in the order they were handed in."""

    def __init__(self) -> None:
        self._queue: queue.Queue[Ticket | None] = queue.Queue()
        self._context = multiprocessing.get_context("spawn")
        self._process: Any = None
        self._pipe: Any = None
        self._cancel: Any = None
        self._current: Ticket | None = None
        self.told = Told("", 0.0)  # what the job at work said last
        self._closing = threading.Event()
        self._thread = threading.Thread(target=self._serve, name="engine", daemon=True)
        self._thread.start()

    def submit(
        self,
        job: Job,
        on_progress: Callable[[str, float], None] = lambda stage, share: None,
        on_start: Callable[[], None] = lambda: None,
    ) -> Ticket:
        """Hand in a job. Its future gives the result or raises JobFailed."""
        ticket = Ticket(job, on_start, on_progress)
        self._queue.put(ticket)
        return ticket

    @property
    def busy(self) -> bool:
        """Whether a job is at work or waiting that takes longer than following a pointer does."""
        tickets = [self._current, *self._queue.queue]
        return any(t is not None and not isinstance(t.job, QUICK) for t in tickets)

    @property
    def process_id(self) -> int | None:
        return self._process.pid if self._process is not None else None

    def close(self) -> None:
        """End the process, and whatever it is doing."""
        self._closing.set()
        self._queue.put(None)
        self._thread.join(timeout=5)

    def _serve(self) -> None:
        self._spawn()
        while True:
            ticket = self._queue.get()
            if ticket is None or self._closing.is_set():
                break
            if ticket.cancel.is_set():
                ticket.future.set_exception(JobFailed("cancelled", "Cancelled."))
                continue
            self._current = ticket
            try:
                ticket.on_start()
                result = self._run(ticket)
            except Exception as error:
                self._current = None
                ticket.future.set_exception(error)
            else:
                self._current = None
                ticket.future.set_result(result)
        self._end_process()

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
        asked_to_stop, self.told = 0.0, Told("", 0.0)
        try:
            self._pipe.send(ticket.job)
            while True:
                if self._pipe.poll(LOOK_EVERY):
                    message = self._pipe.recv()
                    if isinstance(message, Told):
                        self.told = message
                        ticket.on_progress(message.stage, message.share)
                    elif isinstance(message, Done):
                        return message.result
                    elif isinstance(message, Failed):
                        raise JobFailed(message.kind, message.message, message.detail)
                elif self._closing.is_set():
                    raise JobFailed("died", "The program was closed during this job.")
                if ticket.cancel.is_set():
                    if not asked_to_stop:
                        self._cancel.set()
                        asked_to_stop = time.monotonic()
                    elif time.monotonic() - asked_to_stop > HEED_CANCEL_WITHIN:
                        self._end_process()
                        self._spawn()
                        raise JobFailed("cancelled", "Cancelled.")
        except (EOFError, BrokenPipeError, ConnectionResetError):
            self._process.join(timeout=1)
            code = self._process.exitcode
            self._end_process()
            how = f"signal {-code}" if code is not None and code < 0 else f"code {code}"
            raise JobFailed(
                "died", f"The baking process ended unexpectedly ({how}). Nothing else was lost; start the bake again."
            ) from None
