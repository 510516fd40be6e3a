"""OpenRaster: a zip of PNG layers in nested stacks, by its published standard, version 0.0.6 (openraster.org)."""

import io
import pathlib
import zipfile
from dataclasses import dataclass
from xml.etree import ElementTree

import cv2
import numpy as np

from ..arrays import U8, Any_

THUMBNAIL = 256


@dataclass(frozen=True, slots=True)
class Layer:
    """One picture of a stack: `image (H, W, 3 or 4) uint8`, RGB or RGBA."""

    name: str
    image: U8


@dataclass(frozen=True, slots=True)
class Stack:
    """A folder of layers, the topmost first."""

    name: str
    layers: list[Layer]


def write(path: pathlib.Path, content: list[Stack | Layer]) -> None:
    """Write stacks and layers of one size, the topmost first."""
    first = content[0] if isinstance(content[0], Layer) else content[0].layers[0]
    height, width = first.image.shape[:2]
    root = ElementTree.Element("image", {"version": "0.0.6", "w": str(width), "h": str(height)})
    stack = ElementTree.SubElement(root, "stack")
    pictures: list[U8] = []
    for entry in content:
        if isinstance(entry, Layer):
            _add(stack, entry, pictures)
            continue
        inner = ElementTree.SubElement(stack, "stack", {"name": entry.name, "isolation": "isolate"})
        for layer in entry.layers:
            _add(inner, layer, pictures)
    merged = _merged(content, width, height)
    scale = min(1.0, THUMBNAIL / max(width, height))
    small: Any_ = cv2.resize(
        merged, (max(1, round(width * scale)), max(1, round(height * scale))), interpolation=cv2.INTER_AREA
    )
    with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED) as archive:  # the pictures are compressed already
        archive.writestr("mimetype", "image/openraster")
        text = io.BytesIO()
        ElementTree.ElementTree(root).write(text, encoding="UTF-8", xml_declaration=True)
        archive.writestr("stack.xml", text.getvalue())
        for n, picture in enumerate(pictures):
            archive.writestr(f"data/{n:03d}.png", _png(picture))
        archive.writestr("mergedimage.png", _png(merged))
        archive.writestr("Thumbnails/thumbnail.png", _png(small))


def _add(stack: ElementTree.Element, layer: Layer, pictures: list[U8]) -> None:
    place = f"data/{len(pictures):03d}.png"
    pictures.append(layer.image)
    given = {"name": layer.name, "src": place, "x": "0", "y": "0", "opacity": "1.0", "visibility": "visible"}
    ElementTree.SubElement(stack, "layer", given | {"composite-op": "svg:src-over"})


def _merged(content: list[Stack | Layer], width: int, height: int) -> U8:
    """What is seen of all layers, one over the other, (H, W, 4)."""
    out = np.zeros((height, width, 4), np.float32)
    flat = [layer for entry in content for layer in ([entry] if isinstance(entry, Layer) else entry.layers)]
    for layer in reversed(flat):
        over = layer.image.astype(np.float32) / 255
        share = over[..., 3:] if over.shape[2] == 4 else np.ones((height, width, 1), np.float32)
        alpha = share + out[..., 3:] * (1 - share)
        mixed = over[..., :3] * share + out[..., :3] * out[..., 3:] * (1 - share)
        out[..., :3] = mixed / np.maximum(alpha, 1e-6)
        out[..., 3:] = alpha
    return np.rint(out * 255).astype(np.uint8)


def _png(picture: U8) -> bytes:
    order = cv2.COLOR_RGBA2BGRA if picture.shape[2] == 4 else cv2.COLOR_RGB2BGR
    return bytes(cv2.imencode(".png", cv2.cvtColor(picture, order), [cv2.IMWRITE_PNG_COMPRESSION, 1])[1].tobytes())
