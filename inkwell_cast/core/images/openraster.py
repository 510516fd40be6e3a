"""OpenRaster: a zip of PNG layers in nested stacks, by its published standard, version 0.0.6 (openraster.org)."""

import io
import pathlib
import zipfile
from xml.etree import ElementTree

from ..base.array_types import U8, AnyArray
from ..base.on_demand import library
from .layer_stack import PictureLayer, Stack, merged

cv2 = library("cv2")
THUMBNAIL = 256


def write(path: pathlib.Path, content: list[Stack | PictureLayer]) -> None:
    """Write stacks and layers of one size, the topmost first."""
    whole = merged(content)
    height, width = whole.shape[:2]
    scale = min(1.0, THUMBNAIL / max(width, height))
    small: AnyArray = cv2.resize(
        whole, (max(1, round(width * scale)), max(1, round(height * scale))), interpolation=cv2.INTER_AREA
    )
    root = ElementTree.Element("image", {"version": "0.0.6", "w": str(width), "h": str(height)})
    stack = ElementTree.SubElement(root, "stack")
    layers: list[PictureLayer] = []
    for entry in content:
        if isinstance(entry, PictureLayer):
            _add(stack, entry, layers)
            continue
        inner = ElementTree.SubElement(stack, "stack", {"name": entry.name, "isolation": "isolate"})
        for layer in entry.layers:
            _add(inner, layer, layers)
    with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED) as archive:  # the pictures are compressed already
        archive.writestr("mimetype", "image/openraster")
        text = io.BytesIO()
        ElementTree.ElementTree(root).write(text, encoding="UTF-8", xml_declaration=True)
        archive.writestr("stack.xml", text.getvalue())
        for n, layer in enumerate(layers):
            archive.writestr(_place(n), _png(layer.make()))
        archive.writestr("mergedimage.png", _png(whole))
        archive.writestr("Thumbnails/thumbnail.png", _png(small))


def _add(stack: ElementTree.Element, layer: PictureLayer, layers: list[PictureLayer]) -> None:
    given = {"name": layer.name, "src": _place(len(layers)), "x": "0", "y": "0", "opacity": "1.0"}
    ElementTree.SubElement(stack, "layer", given | {"visibility": "visible", "composite-op": "svg:src-over"})
    layers.append(layer)


def _place(number: int) -> str:
    return f"data/{number:03d}.png"


def _png(picture: U8) -> bytes:
    order = cv2.COLOR_RGBA2BGRA if picture.shape[2] == 4 else cv2.COLOR_RGB2BGR
    return bytes(cv2.imencode(".png", cv2.cvtColor(picture, order), [cv2.IMWRITE_PNG_COMPRESSION, 1])[1].tobytes())
