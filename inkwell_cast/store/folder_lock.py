"""One program at a time on a data folder."""

import pathlib
from typing import IO

from ..core.base.system import hold_alone


def hold(folder: pathlib.Path) -> IO[bytes]:
    """Lock the folder until the returned file is closed or the program ends. Raises RuntimeError if another has it."""
    file = (folder / "in-use").open("ab")
    try:
        hold_alone(file)
    except OSError as error:
        file.close()
        raise RuntimeError(
            f"The data folder {folder} is open in another Inkwell Cast. Use that one, or another folder with --data."
        ) from error
    return file
