"""TGA with 8 bits a channel, run-length coded."""

import pathlib

import numpy as np

from ..base.array_types import U8
from ..base.errors import InputProblem
from ..base.on_demand import library

Image = library("PIL.Image")


def write(path: pathlib.Path, steps: U8) -> None:
    """Write `steps (H, W, 1, 3 or 4)`."""
    Image.fromarray(steps[..., 0] if steps.shape[2] == 1 else steps).save(path, format="TGA", compression="tga_rle")


def read(path: pathlib.Path) -> U8:
    """(H, W, 3) uint8. Raises InputProblem."""
    return read_rgb(path, "TGA")


def read_rgb(path: pathlib.Path, name: str) -> U8:
    try:
        with Image.open(path, formats=[name]) as picture:
            return np.array(picture.convert("RGB"))
    except (OSError, ValueError) as error:
        raise InputProblem(
            path.name, f"This is not a {name} that can be read ({error}).", f"Export it again as {name}."
        ) from error
