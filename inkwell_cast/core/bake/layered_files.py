"""The layered files: a folder a channel with a masked layer of colour for each ID, and the ID map below."""

from functools import partial

import numpy as np

from ..base.array_types import U8, AnyArray
from ..base.color_space import steps_of, to_srgb
from ..images import openraster, psd
from ..images.layer_stack import PictureLayer, Stack
from ..maps.ids import mask_of
from ..mesh.mesh import Mesh
from ..settings.material_library import Library

WRITERS = {".ora": openraster.write, ".psd": psd.write}


def layers_of(
    ids: AnyArray, legend: dict[str, str], by: str, sculpt: Mesh, library: Library
) -> list[Stack | PictureLayer]:
    """An ID map (H, W, 3) in whole steps, 8 or 16 bits, and masked layers of what its legend names, channel by channel.

    A folder has a layer for each material of the library that is on the map and has a colour there. In the first, what
    is not in the library has the colour of the sculpt's material, or of its ID.
    """
    colors = _material_colors(sculpt) if by in ("material", "library") else {}
    in_use = any(library.find(name) for name in legend)

    def masked(color: str, shown: tuple[int, ...]) -> U8:
        mask = mask_of(ids, color)
        picture = np.empty((*mask.shape[:2], 4), np.uint8)
        picture[..., :3], picture[..., 3:] = shown, _eight_bits(mask)
        return picture

    def shown_in(channel: str, first: bool, name: str, color: str) -> tuple[int, ...] | None:
        material = library.find(name)
        if material and channel in material.colors:
            return steps_of(material.colors[channel])
        return colors.get(name, steps_of(color)) if first and material is None else None

    folders = list[Stack | PictureLayer]()
    for n, channel in enumerate(library.channels if in_use else ["Colour"]):
        shown = {name: shown_in(channel, n == 0, name, color) for name, color in legend.items()}
        layers = [PictureLayer(name, partial(masked, legend[name], s)) for name, s in shown.items() if s is not None]
        if layers:
            folders.append(Stack(channel, layers))
    return [*folders, PictureLayer("ID", partial(_eight_bits, ids))]


def _eight_bits(steps: AnyArray) -> U8:
    return steps if steps.dtype == np.uint8 else (steps >> 8).astype(np.uint8)


def _material_colors(mesh: Mesh) -> dict[str, tuple[int, ...]]:
    """The materials' colours as sRGB steps, by name."""
    steps = np.rint(255 * to_srgb(np.clip(mesh.material_colors, 0, 1))).astype(int).tolist()
    return {name or "no material": tuple(rgb) for name, rgb in zip(mesh.material_names, steps, strict=True)}
