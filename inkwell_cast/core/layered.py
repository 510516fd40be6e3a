"""The layered files: a masked layer of colour for each ID in a folder, and the ID map below."""

from functools import partial

import numpy as np

from .arrays import U8, Any_
from .images import openraster, psd
from .images.stack import Layer, Stack
from .maps.ids import mask_of, rgb_of
from .mesh import Mesh
from .srgb import to_srgb

WRITERS = {".ora": openraster.write, ".psd": psd.write}


def layers_of(ids: Any_, legend: dict[str, str], by: str, sculpt: Mesh) -> list[Stack | Layer]:
    """An ID map (H, W, 3) in whole steps, 8 or 16 bits, and a masked layer for each that its legend names."""
    own = _material_colors(sculpt) if by == "material" else {}

    def masked(name: str, color: str) -> U8:
        mask = mask_of(ids, color)
        picture = np.empty((*mask.shape[:2], 4), np.uint8)
        picture[..., :3], picture[..., 3:] = own.get(name, rgb_of(color)), _eight_bits(mask)
        return picture

    layers = [Layer(name, partial(masked, name, color)) for name, color in legend.items()]
    return [Stack("Colour", layers), Layer("ID", partial(_eight_bits, ids))]


def _eight_bits(steps: Any_) -> U8:
    return steps if steps.dtype == np.uint8 else (steps >> 8).astype(np.uint8)


def _material_colors(mesh: Mesh) -> dict[str, tuple[int, ...]]:
    """The materials' colours as sRGB steps, by name."""
    steps = np.rint(255 * to_srgb(np.clip(mesh.material_colors, 0, 1))).astype(int).tolist()
    return {name or "no material": tuple(own) for name, own in zip(mesh.material_names, steps, strict=True)}
