"""JPEG, for previews: its losses make it unfit for maps."""

import pathlib

from ..base.array_types import U8
from ..base.on_demand import library
from .tga import read_rgb

Image = library("PIL.Image")


def write(path: pathlib.Path, steps: U8) -> None:
    """Write `steps (H, W, 1 or 3)` with little loss and whole colours."""
    image = Image.fromarray(steps[..., 0] if steps.shape[2] == 1 else steps)
    image.save(path, format="JPEG", quality=95, subsampling=0)


def read(path: pathlib.Path) -> U8:
    """(H, W, 3) uint8. Raises InputProblem."""
    return read_rgb(path, "JPEG")
