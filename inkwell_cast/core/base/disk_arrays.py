"""Room for large arrays: in memory, or on disk in unnamed files that the system pages in and out as it has memory.

Such a file takes its place on the disk at once, so a full disk is told before anything is computed, and it vanishes
with its array, also when the process is killed.
"""

import mmap
import os
import shutil
import tempfile
from collections.abc import Callable
from typing import Any

import numpy as np

from .array_types import F32, AnyArray
from .errors import InputProblem
from .system import scratch

BAND = 64  # rows


def free_on_disk() -> int:
    """Bytes that the scratch folder's disk can take."""
    try:
        return shutil.disk_usage(scratch()).free
    except OSError:
        return 0


def room(shape: tuple[int, ...], kind: Any, on_disk: bool = False) -> AnyArray:
    """An array of zeros. Raises InputProblem where the disk cannot hold it."""
    if not on_disk:
        return np.zeros(shape, kind)
    size = max(int(np.prod(shape, dtype=np.int64)) * np.dtype(kind).itemsize, 1)
    try:
        with tempfile.TemporaryFile(prefix="inkwell-cast-", dir=scratch()) as file:
            if hasattr(os, "posix_fallocate"):
                os.posix_fallocate(file.fileno(), 0, size)
            else:
                file.truncate(size)
            return np.ndarray(shape, kind, buffer=mmap.mmap(file.fileno(), size))
    except OSError as error:
        raise InputProblem(
            str(scratch()),
            f"There is no room on this disk for {size / 1e9:.1f} GB ({error.strerror}).",
            "Free some space, or name another folder in INKWELL_CAST_SCRATCH.",
        ) from error


def on_disk(values: AnyArray) -> bool:
    """Whether an array that `room` gave lies on disk."""
    return isinstance(values.base, mmap.mmap)


def filled(shape: tuple[int, ...], kind: Any, value: int, on_disk: bool) -> AnyArray:
    """An array of one value."""
    out = room(shape, kind, on_disk)
    out.fill(value)
    return out


def in_bands(work: Callable[[AnyArray], AnyArray], values: AnyArray, channels: int) -> F32:
    """What `work` makes of some rows of values (H, W, ...), for all of them, (H, W, C): its own needs stay small."""
    out = np.empty((*values.shape[:2], channels), np.float32)
    for first in range(0, len(values), BAND):
        out[first : first + BAND] = work(values[first : first + BAND])
    return out
