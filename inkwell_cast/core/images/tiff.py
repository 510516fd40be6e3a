"""TIFF with 8 or 16 bits a channel, or 32-bit floats."""

import pathlib

import numpy as np

from ..base.array_types import F32, U8, U16
from ..base.errors import InputProblem
from ..base.on_demand import library

tifffile = library("tifffile")


def write(path: pathlib.Path, values: U8 | U16 | F32) -> None:
    """Write `values (H, W, 1, 3 or 4)`: whole steps, or float32 as they are."""
    grey = values.shape[2] == 1
    tifffile.imwrite(
        path,
        values[..., 0] if grey else values,
        photometric="minisblack" if grey else "rgb",
        compression="zlib",
        compressionargs={"level": 1},
        predictor=values.dtype.kind == "u",
        software="Inkwell Cast",
        metadata=None,
        extrasamples=["unassalpha"] if values.shape[2] == 4 else None,
    )


def read(path: pathlib.Path) -> U8 | U16 | F32:
    """(H, W, 3). Raises InputProblem."""
    try:
        image = tifffile.imread(path)
    except Exception as error:  # the library raises many kinds on a damaged file
        raise InputProblem(
            path.name, f"This is not a TIFF that can be read ({error}).", "Export it again as TIFF."
        ) from error
    if image.ndim == 2:
        image = np.repeat(image[..., None], 3, axis=2)
    if image.ndim != 3 or image.shape[2] < 3:
        raise InputProblem(path.name, f"Its pixels have the shape {image.shape}.", "Export it as grey or RGB.")
    kind = image.dtype if image.dtype in (np.uint8, np.uint16) else np.float32
    return np.ascontiguousarray(image[..., :3], kind)
