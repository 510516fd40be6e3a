"""Packed pictures: channels of several maps in one."""

import pathlib
from collections.abc import Callable

import numpy as np

from ..base.array_types import F32, AnyArray
from ..base.color_space import to_linear, to_srgb
from ..base.errors import InputProblem
from ..images import png, read_picture
from ..images.exr import as_halves
from ..maps import REGISTRY
from ..settings.handoff import CHANNELS, Pack, Well

PLACE = {name: n for n, name in enumerate(CHANNELS)}
Read = Callable[[str], pathlib.Path | None]


def packed(pack: Pack, size: tuple[int, int], picture: Read, raw: Read = lambda key: None) -> AnyArray:
    """The picture (H, W, 3 or 4) of a sheet of `size` (width, height), whole steps or floats as its form takes them.

    `picture(key)` gives the PNG of a map of the sheet, or None, and `raw(key)` its file: one of floats goes into a
    picture of floats as it is, in its own units, in place of the steps of its PNG. Raises InputProblem where a map is
    missing.
    """
    width, height = size
    out = np.empty((height, width, len(pack.wells)), np.float32)
    for n, (name, well) in enumerate(pack.wells.items()):
        exact = _raw(raw(well.map), well) if pack.exact and well.map else None
        out[..., n] = _values(pack, name, well, picture) if exact is None else exact
    if pack.exact:
        return as_halves(out) if pack.depth == 16 else out.astype(np.float32)
    return png.quantise(out, pack.steps)


def _raw(path: pathlib.Path | None, well: Well) -> F32 | None:
    """A channel of a file of floats; None for one of steps, or where there is none."""
    image: AnyArray | None = read_picture(path) if path is not None else None
    if image is None or image.dtype.kind != "f" or PLACE[well.channel] >= image.shape[2]:
        return None
    values: F32 = image[..., PLACE[well.channel]]
    return np.float32(1) - values if well.invert else values


def _values(pack: Pack, channel: str, well: Well, picture: Read) -> F32 | float:
    if not well.map:
        return 1 - well.value if well.invert else well.value
    path = picture(well.map)
    map_ = REGISTRY[well.map]
    if path is None:
        raise InputProblem(
            f"The picture “{pack.name}”",
            f"Its {channel} takes {map_.LABEL.lower()}, which this bake has not.",
            "Tick that map and bake again, or choose another.",
        )
    steps: AnyArray = png.read(path)
    values: F32 = png.dequantise(np.ascontiguousarray(steps[..., PLACE[well.channel]]))
    wanted = "linear" if channel == "alpha" else pack.space
    if wanted != map_.SPACE:
        values = to_linear(values) if wanted == "linear" else to_srgb(values)
    return (1 - values).astype(np.float32) if well.invert else values.astype(np.float32)


def needed(packs: list[Pack], there: list[str]) -> list[str]:
    """Maps that packed pictures take from and a list has not, by name."""
    return [REGISTRY[key].LABEL for key in dict.fromkeys(k for pack in packs for k in pack.maps) if key not in there]
