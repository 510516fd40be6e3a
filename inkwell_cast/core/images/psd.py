"""PSD, for programs that read no open layered format; written by the library psd-tools."""

import pathlib
from typing import TYPE_CHECKING

from ..base.array_types import U8
from ..base.on_demand import library
from .layer_stack import PictureLayer, Stack, merged

Image = library("PIL.Image")
if TYPE_CHECKING:
    from PIL.Image import Image as PillowImage
    from psd_tools import PSDImage
    from psd_tools.api.layers import Group


def write(path: pathlib.Path, content: list[Stack | PictureLayer]) -> None:
    """Write stacks and layers of one size, the topmost first; alpha becomes the mask of its layer."""
    from psd_tools import PSDImage

    file = PSDImage.frompil(_picture(merged(content)[..., :3]))
    for entry in reversed(content):  # the library adds on top
        if isinstance(entry, PictureLayer):
            _add(file, entry)
            continue
        group = file.create_group(name="folder")
        group.name = entry.name
        for layer in reversed(entry.layers):
            _add(group, layer)
    file._updated = False  # the merged picture that it was made from holds; composing it again takes long
    file.save(path)


def _add(parent: "PSDImage | Group", layer: PictureLayer) -> None:
    image = layer.make()
    pixels = parent.create_pixel_layer(_picture(image[..., :3]), name="layer")
    pixels.name = layer.name  # names that are not Latin are taken here only
    if image.shape[2] == 4:
        pixels.create_mask(_picture(image[..., 3]))


def _picture(image: U8) -> "PillowImage":
    return Image.fromarray(image.copy())
