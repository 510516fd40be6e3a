"""Files and folders that appear whole or not at all."""

import os
import pathlib
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager

from .system import put_in_place


@contextmanager
def whole(path: pathlib.Path) -> Iterator[pathlib.Path]:
    """A temporary name beside `path` that takes its place when the block ends well, and vanishes otherwise."""
    handle, name = tempfile.mkstemp(dir=path.parent, prefix=".", suffix=path.suffix)
    os.close(handle)
    partial = pathlib.Path(name)
    try:
        yield partial
        os.chmod(partial, 0o666 & ~_mask())  # as any new file has it, not as private as a temporary one
        put_in_place(partial, path)
    finally:
        partial.unlink(missing_ok=True)


def _mask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask
