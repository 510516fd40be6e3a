"""One program at a time on a data folder."""

import pathlib
import sys
from typing import IO


def hold(folder: pathlib.Path) -> IO[bytes]:
    """Lock the folder until the returned file is closed or the program ends. Raises RuntimeError if another has it."""
    file = (folder / "in-use").open("ab")
    try:
        if sys.platform == "win32":
            import msvcrt

            msvcrt.locking(file.fileno(), msvcrt.LK_NBLCK, 1)
        else:
            import fcntl

            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        file.close()
        raise RuntimeError(
            f"The data folder {folder} is open in another Inkwell Cast. Use that one, or another folder with --data."
        ) from error
    return file
