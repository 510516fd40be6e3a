"""OpenEXR with half or float channels R, G, B and perhaps A, or Y for grey."""

import pathlib

import numpy as np

from ..base.array_types import F32, AnyArray
from ..base.errors import InputProblem
from ..base.on_demand import library

OpenEXR = library("OpenEXR")
MOST_HALF = 65504.0  # the largest number that a half holds


def as_halves(values: AnyArray) -> AnyArray:
    """Values as float16; what lies beyond the largest half becomes that, where a plain cast would make it infinite."""
    return np.clip(values, -MOST_HALF, MOST_HALF).astype(np.float16)


def write(path: pathlib.Path, values: AnyArray) -> None:
    """Write `values (H, W, 1, 3 or 4)`, float16 or float32, as they are."""
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    channels = {{1: "Y", 3: "RGB", 4: "RGBA"}[values.shape[2]]: values[..., 0] if values.shape[2] == 1 else values}
    with OpenEXR.File(header, {name: np.ascontiguousarray(plane) for name, plane in channels.items()}) as file:
        file.write(str(path))


def read(path: pathlib.Path) -> F32:
    """(H, W, 3) float32. Raises InputProblem."""
    try:
        with OpenEXR.File(str(path), separate_channels=True) as file:
            channels = {name: channel.pixels.astype(np.float32) for name, channel in file.channels().items()}
    except Exception as error:
        raise InputProblem(
            path.name, f"This is not an OpenEXR that can be read ({error}).", "Export it again as OpenEXR."
        ) from error
    names = ["Y"] * 3 if "Y" in channels else ["R", "G", "B"]
    if not set(names) <= set(channels):
        raise InputProblem(
            path.name, f"Its channels are {', '.join(channels)}.", "Export it with channels R, G and B, or Y."
        )
    return np.stack([channels[name] for name in names], axis=2)
