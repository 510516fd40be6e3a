"""What the materials of a glTF file look like: colours, what they send out, and the pictures of both."""

import base64
import math
import pathlib
from dataclasses import dataclass
from typing import Any
from urllib.parse import unquote

import numpy as np

from ..base.array_types import U8
from ..mesh import textures
from ..mesh.textures import Texture
from .reading_budget import Budget


@dataclass(frozen=True, slots=True)
class GltfFile:
    """A glTF file: its path, description and buffers."""

    path: pathlib.Path
    document: dict[str, Any]
    buffers: list[U8]
    budget: Budget


@dataclass(frozen=True, slots=True)
class Looks:
    """Of a material: its name, base colour and what it sends out (linear RGB), and the pictures of both."""

    name: str = ""
    color: tuple[float, ...] = (0.5, 0.5, 0.5)
    texture: Texture | None = None
    sent: tuple[float, ...] = (0.0, 0.0, 0.0)
    glowing: Texture | None = None


def text_of(named: dict[str, Any]) -> str:
    """The name of something; what is no text is none."""
    name = named.get("name")
    return name if isinstance(name, str) else ""


def looks_of(file: GltfFile, index: int | None) -> Looks:
    """How a material of the file looks; its light may be beyond 1 (KHR_materials_emissive_strength)."""
    if index is None:
        return Looks()
    material = file.document["materials"][index]
    base = material.get("pbrMetallicRoughness", {})
    color, worn = base.get("baseColorFactor", [0.5, 0.5, 0.5, 1])[:3], base.get("baseColorTexture")
    tint = tuple(float(c) for c in base.get("baseColorFactor", (1, 1, 1))[:3])
    strong = material.get("extensions", {}).get("KHR_materials_emissive_strength", {}).get("emissiveStrength", 1.0)
    sent = tuple(float(strong) * float(c) for c in material.get("emissiveFactor", (0, 0, 0))[:3])
    glowing = material.get("emissiveTexture") if any(sent) else None
    return Looks(
        text_of(material) or f"material {index}",
        tuple(color),
        _texture(file, worn, tint) if worn else None,
        sent,
        _texture(file, glowing, sent) if glowing else None,
    )


def _texture(file: GltfFile, worn: dict[str, Any], tint: tuple[float, ...]) -> Texture | None:
    """A texture of the file's own buffers, a data URI or a picture beside it; None where that lies elsewhere."""
    document = file.document
    image = document["images"][document["textures"][worn["index"]]["source"]]
    name, uri = text_of(image) or image.get("uri", "")[:60] or "texture", image.get("uri")
    if uri is None:
        view = document["bufferViews"][image["bufferView"]]
        start = view.get("byteOffset", 0)
        data: U8 | None = file.buffers[view["buffer"]][start : start + view["byteLength"]]
    elif uri.startswith("data:"):
        data = np.frombuffer(base64.b64decode(uri.partition(",")[2]), np.uint8)
    else:
        data = textures.beside(file.path, unquote(uri))
    if data is None:
        return None
    moved = worn.get("extensions", {}).get("KHR_texture_transform", {})
    (x, y), (wide, tall), angle = moved.get("offset", (0, 0)), moved.get("scale", (1, 1)), moved.get("rotation", 0.0)
    c, s = math.cos(angle), math.sin(angle)
    turned = (wide * c, tall * s, float(x), -wide * s, tall * c, float(y))
    channel = int(moved.get("texCoord", worn.get("texCoord", 0)))
    return textures.texture_of(name, data, channel=channel, turned=turned, tint=tint)
