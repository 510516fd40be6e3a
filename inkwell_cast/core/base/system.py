"""What differs between Linux, macOS and Windows: locks, memory, the end of processes, files that are in use.

Everything else asks here. Each part is looked for where it is needed and does without where it is missing, so that the
program runs on a system that lacks it, only with less care.
"""

import contextlib
import os
import pathlib
import signal
import sys
import tempfile
import threading
import time
from types import ModuleType
from typing import IO

import psutil

NO_LIMIT = 1 << 50
PR_SET_PDEATHSIG = 1
LOOK_EVERY = 0.5  # seconds between two looks at whether the process that started this one is there
PATIENCE, PAUSE = 2.0, 0.05  # seconds for which a file may be held by another program, and between two tries


def part(name: str) -> ModuleType | None:
    """A module that not every system has; None where it is missing."""
    try:
        return __import__(name)
    except ImportError:
        return None


# locks and processes


def hold_alone(file: IO[bytes]) -> None:
    """Lock an open file until it is closed or the program ends. Raises OSError where another program has it."""
    unix, windows = part("fcntl"), part("msvcrt")
    if unix:
        unix.flock(file, unix.LOCK_EX | unix.LOCK_NB)
    elif windows:
        file.seek(0)
        windows.locking(file.fileno(), windows.LK_NBLCK, 1)


def end_with_parent() -> None:
    """Let this process never outlive the one that started it: by the system where it can, else by looking."""
    if sys.platform == "linux":
        with contextlib.suppress(OSError, AttributeError):
            import ctypes

            ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
    parent = psutil.Process(os.getppid())

    def watch() -> None:
        while parent.is_running() and os.getppid() == parent.pid:
            time.sleep(LOOK_EVERY)
        os._exit(1)

    threading.Thread(target=watch, name="parent watch", daemon=True).start()


def yield_to_others(niceness: int) -> None:
    """Leave the processor to processes with a lower number, 0 to 19; on Windows by a class of priority."""
    if not niceness:
        return
    with contextlib.suppress(OSError, psutil.Error):
        if hasattr(os, "nice"):
            os.nice(niceness)
        else:
            psutil.Process().nice(psutil.BELOW_NORMAL_PRIORITY_CLASS)


# memory


def whole_memory() -> int:
    """Bytes of memory that the machine has."""
    return int(psutil.virtual_memory().total)


def left_in_machine() -> int:
    """Bytes that the system could give now."""
    return int(psutil.virtual_memory().available)


def anonymous() -> int:
    """Bytes of this process that lie in memory and in no file, as well as the system says it."""
    try:
        lines = pathlib.Path("/proc/self/status").read_text().splitlines()
        return int(next(line.split()[1] for line in lines if line.startswith("RssAnon"))) * 1024
    except (OSError, StopIteration, ValueError):
        facts = psutil.Process().memory_info()
        return int(getattr(facts, "private", facts.rss))


def left_by_limits() -> list[int]:
    """What limits on this process leave of its address space and of its data (`ulimit`, `prlimit`)."""
    resource = part("resource")
    try:
        pages = [int(n) * os.sysconf("SC_PAGE_SIZE") for n in pathlib.Path("/proc/self/statm").read_text().split()]
    except (OSError, ValueError, AttributeError):
        return [NO_LIMIT]
    if resource is None:
        return [NO_LIMIT]
    used = {resource.RLIMIT_AS: pages[0], resource.RLIMIT_DATA: pages[5]}
    soft = {kind: resource.getrlimit(kind)[0] for kind in used}
    return [
        max(soft[kind] - taken, 0) if soft[kind] != resource.RLIM_INFINITY else NO_LIMIT for kind, taken in used.items()
    ]


def limit_data(most: int) -> None:
    """Let one request beyond so many bytes fail at once, where the system can; a lower limit from outside stays."""
    resource = part("resource")
    if resource is None or sys.platform != "linux":
        return
    soft, hard = resource.getrlimit(resource.RLIMIT_DATA)
    limits = [value for value in (most, soft, hard) if value != resource.RLIM_INFINITY]
    resource.setrlimit(resource.RLIMIT_DATA, (min(limits), hard))


# files


def scratch() -> pathlib.Path:
    """The folder for large files that pass: INKWELL_CAST_SCRATCH, else /var/tmp, which lies on disk, else any."""
    named = os.environ.get("INKWELL_CAST_SCRATCH")
    usual = pathlib.Path("/var/tmp")
    return pathlib.Path(named) if named else usual if usual.is_dir() else pathlib.Path(tempfile.gettempdir())


def put_in_place(source: pathlib.Path, target: pathlib.Path) -> None:
    """Move a file over another; waits a little where that is held, as Windows does not let go of open files."""
    until = time.monotonic() + PATIENCE
    while True:
        try:
            os.replace(source, target)
            return
        except PermissionError:
            if time.monotonic() > until:
                raise
            time.sleep(PAUSE)


def removed(path: pathlib.Path) -> bool:
    """Delete a file; False where a program still holds it, so that it must be tried again later."""
    try:
        path.unlink(missing_ok=True)
    except PermissionError:
        return False
    return True


def sync(path: pathlib.Path) -> None:
    """See a file, or the names in a folder, safely to the disk; Windows opens no folders."""
    try:
        handle = os.open(path, os.O_RDONLY)
    except PermissionError:
        if path.is_dir():
            return
        raise
    try:
        os.fsync(handle)
    except OSError:
        if os.name != "nt":  # which syncs only what is open for writing
            raise
    finally:
        os.close(handle)
