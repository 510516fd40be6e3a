"""The layered file: a masked layer of colour for each ID in a folder, and the ID map below."""

import pathlib

import numpy as np

from .arrays import U8, Any_
from .images import openraster
from .images.openraster import Layer, Stack
from .maps.ids import masks_of, rgb_of
from .mesh import Mesh
from .srgb import to_srgb


def write_layers(path: pathlib.Path, ids: Any_, legend: dict[str, str], by: str, sculpt: Mesh) -> None:
    """Write an ID map (H, W, 3) in whole steps, 8 or 16 bits, and what its legend names, as OpenRaster."""
    own = _material_colors(sculpt) if by == "material" else {}
    layers = []
    for name, mask in masks_of(ids, legend):
        color = own.get(name, rgb_of(legend[name]))
        picture = np.empty((*mask.shape[:2], 4), np.uint8)
        picture[..., :3], picture[..., 3:] = color, _eight_bits(mask)
        layers.append(Layer(name, picture))
    openraster.write(path, [Stack("Colour", layers), Layer("ID", _eight_bits(ids))])


def _eight_bits(steps: Any_) -> U8:
    return steps if steps.dtype == np.uint8 else (steps >> 8).astype(np.uint8)


def _material_colors(mesh: Mesh) -> dict[str, tuple[int, ...]]:
    """The materials' colours as sRGB steps, by name."""
    steps = np.rint(255 * to_srgb(np.clip(mesh.material_colors, 0, 1))).astype(int).tolist()
    return {name or "no material": tuple(own) for name, own in zip(mesh.material_names, steps, strict=True)}
