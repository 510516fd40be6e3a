"""A watch on the memory that the baking process really uses.

What counts is what lies in memory, not what is mapped: layers of large sheets are files that the system pages in and
out. A single request for more than the machine has fails at once (`RLIMIT_DATA`); many small ones are noticed by
looking at what is left: below `LOW` work is asked to stop, below `GONE` the process ends before the system ends
another one's.
"""

import os
import threading
import time
from collections.abc import Callable

from ..core.base.free_memory import free
from ..core.base.system import anonymous, limit_data, whole_memory

LOOK_SECONDS = 0.05
LOW, GONE = 400 << 20, 120 << 20  # bytes left
OWN = 500 << 20  # a process with less than this is not what fills the machine
NO_ROOM = 77  # exit code


def limit_single_requests() -> None:
    """Let one request for more than the whole machine fail; a lower limit from outside stays."""
    limit_data(whole_memory())


class MemoryWatch:
    """Looks at the memory left in a thread of its own; `short` says whether work should stop."""

    def __init__(
        self, left: Callable[[], int] = free, used: Callable[[], int] = anonymous, end: Callable[[int], None] = os._exit
    ) -> None:
        self._left, self._used, self._end = left, used, end
        self._short = threading.Event()

    @property
    def short(self) -> bool:
        return self._short.is_set()

    def begin(self) -> None:
        """A new job: what the last one needed no longer counts."""
        self._short.clear()

    def look(self) -> None:
        """Compare what is left with the limits, once."""
        left = self._left()
        if left >= LOW or self._used() < OWN:
            return
        self._short.set()
        if left < GONE:
            self._end(NO_ROOM)

    def start(self) -> None:
        def watch() -> None:
            while True:
                self.look()
                time.sleep(LOOK_SECONDS)

        threading.Thread(target=watch, name="memory watch", daemon=True).start()
