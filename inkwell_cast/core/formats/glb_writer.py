"""Writing GLB, with pictures that its materials wear."""

import json
import pathlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..base.array_types import F32, I32, I64, AnyArray
from ..mesh.mesh import NO_OFFSET, CornerValues, Mesh
from ..mesh.vertex_colors import colors_in

MAGIC, JSON_CHUNK, BIN_CHUNK = 0x46546C67, 0x4E4F534A, 0x004E4942


@dataclass(frozen=True, slots=True)
class MaterialPictures:
    """Pictures that a material wears, as PNG files; b"" for none. `channel` is the UV channel they are laid out by.

    strength is the light that white is in the picture of what it sends out.
    """

    normal: bytes = b""
    occlusion: bytes = b""
    color: bytes = b""
    emission: bytes = b""
    strength: float = 1.0
    channel: int = 0


def write(path: pathlib.Path, mesh: Mesh, worn: Sequence[MaterialPictures] = ()) -> None:
    """Write GLB: one node an object and one primitive a material; corners whose layers share all rows become one.

    `worn` are pictures for the first materials.
    """
    document = _Document()
    content = document.content
    if any(mesh.material_names) or worn:
        content["materials"] = [
            {"name": n, "pbrMetallicRoughness": {"baseColorFactor": [*map(float, c), 1.0], "metallicFactor": 0.0}}
            for n, c in zip(mesh.material_names, mesh.material_colors, strict=True)
        ]
        for material, sent in zip(content["materials"], mesh.emission_colors.tolist(), strict=True):
            _glow(content, material, sent)
    last, layers = -1, _layers(mesh)
    for o, m, chosen in _groups(mesh):
        vertices, indices = _vertices(layers, chosen)
        attributes = {
            key: document.store(rows, 5126, f"VEC{rows.shape[1]}", 34962, key == "POSITION")
            for key, rows in vertices.items()
        }
        primitive = {"attributes": attributes, "indices": document.store(indices, 5125, "SCALAR", 34963)}
        if "materials" in content:
            primitive["material"] = m
        if o != last:
            last = o
            document.add_node(mesh.object_names[o], mesh.origin)
        content["meshes"][-1]["primitives"].append(primitive)
    for pictures, material in zip(worn, content.get("materials", []), strict=False):
        _dress(content, document.blobs, material, pictures)
    document.write(path)


def _glow(document: dict[str, Any], material: dict[str, Any], sent: list[float]) -> None:
    """What a material sends out; beyond 1 by the extension for its strength."""
    strong = max(1.0, *sent)
    if any(sent):
        material["emissiveFactor"] = [value / strong for value in sent]
    if strong > 1:
        material["extensions"] = {"KHR_materials_emissive_strength": {"emissiveStrength": strong}}
        document["extensionsUsed"] = ["KHR_materials_emissive_strength"]


class _Document:
    """A glTF document that is being made: its JSON, and the bytes of its one buffer."""

    def __init__(self) -> None:
        self.blobs: list[bytes] = []
        self._size = 0
        self.content: dict[str, Any] = {
            "asset": {"version": "2.0", "generator": "Inkwell Cast"},
            "scene": 0,
            "scenes": [{"nodes": []}],
            "nodes": [],
            "meshes": [],
            "accessors": [],
            "bufferViews": [],
        }

    def store(self, array: AnyArray, component: int, kind: str, target: int, bounds: bool = False) -> int:
        """Put an array into the buffer; gives the number of its accessor."""
        raw = np.ascontiguousarray(array).tobytes()
        self.blobs.append(raw + b"\0" * (-len(raw) % 4))
        views, accessors = self.content["bufferViews"], self.content["accessors"]
        views.append({"buffer": 0, "byteOffset": self._size, "byteLength": len(raw), "target": target})
        self._size += len(self.blobs[-1])
        entry: dict[str, Any] = {
            "bufferView": len(views) - 1,
            "componentType": component,
            "count": len(array),
            "type": kind,
        }
        if bounds:
            entry |= {"min": array.min(axis=0).tolist(), "max": array.max(axis=0).tolist()}
        accessors.append(entry)
        return len(accessors) - 1

    def add_node(self, name: str, origin: tuple[float, float, float] = NO_OFFSET) -> None:
        """One more object, without primitives yet, that counts from an origin."""
        content = self.content
        content["scenes"][0]["nodes"].append(len(content["nodes"]))
        placed = {} if origin == NO_OFFSET else {"translation": origin}
        content["nodes"].append({"name": name, "mesh": len(content["meshes"])} | placed)
        content["meshes"].append({"name": name, "primitives": []})

    def write(self, path: pathlib.Path) -> None:
        """Write header, JSON and buffer, by glTF 2.0, "GLB File Format Specification"."""
        body = b"".join(self.blobs)
        self.content["buffers"] = [{"byteLength": len(body)}]
        text = json.dumps(self.content, separators=(",", ":")).encode()
        text += b" " * (-len(text) % 4)
        with path.open("wb") as file:
            file.write(np.array([MAGIC, 2, 28 + len(text) + len(body), len(text), JSON_CHUNK], "<u4").tobytes())
            file.write(text)
            file.write(np.array([len(body), BIN_CHUNK], "<u4").tobytes())
            file.write(body)


def _groups(mesh: Mesh) -> Iterator[tuple[int, int, I64]]:
    """Each object's triangles of each material, (object, material, triangles); the triangles of one group rise."""
    owner = mesh.objects.astype(np.int64) * len(mesh.material_names) + mesh.materials
    order = np.argsort(owner, kind="stable")
    for group in np.split(order, np.flatnonzero(np.diff(owner[order])) + 1):
        if len(group):
            yield int(mesh.objects[group[0]]), int(mesh.materials[group[0]]), group


def _dress(document: dict[str, Any], blobs: list[bytes], material: dict[str, Any], worn: MaterialPictures) -> None:
    """Let a material wear pictures, stored in the file itself."""

    def texture(data: bytes, name: str) -> dict[str, Any]:
        offset = sum(len(b) for b in blobs)
        blobs.append(data + b"\0" * (-len(data) % 4))
        document["bufferViews"].append({"buffer": 0, "byteOffset": offset, "byteLength": len(data)})
        images, textures = document.setdefault("images", []), document.setdefault("textures", [])
        view = len(document["bufferViews"]) - 1
        images.append({"bufferView": view, "mimeType": "image/png", "name": f"{material['name']} {name}".strip()})
        document.setdefault("samplers", [{"magFilter": 9729, "minFilter": 9987, "wrapS": 10497, "wrapT": 10497}])
        textures.append({"sampler": 0, "source": len(images) - 1})
        return {"index": len(textures) - 1} | ({"texCoord": worn.channel} if worn.channel else {})

    if worn.normal:
        material["normalTexture"] = texture(worn.normal, "normal")
    if worn.occlusion:
        material["occlusionTexture"] = texture(worn.occlusion, "occlusion")
    if worn.emission:
        _glow(document, material, [worn.strength] * 3)
        material["emissiveTexture"] = texture(worn.emission, "emission")
    base = material["pbrMetallicRoughness"] | {"roughnessFactor": 0.6}
    if worn.color:
        base |= {"baseColorTexture": texture(worn.color, "base colour"), "baseColorFactor": [1.0, 1.0, 1.0, 1.0]}
    material["pbrMetallicRoughness"] = base


def _layers(mesh: Mesh) -> dict[str, CornerValues]:
    """What vertices may carry, by the standard's names, in its conventions."""
    layers: dict[str, CornerValues] = {"POSITION": CornerValues(mesh.positions, mesh.triangles)}
    if mesh.normals:
        layers["NORMAL"] = mesh.normals
    for c, uv in enumerate(mesh.uvs):
        layers[f"TEXCOORD_{c}"] = CornerValues(np.stack([uv.values[:, 0], 1 - uv.values[:, 1]], axis=1), uv.corners)
    if mesh.tangents and mesh.normals:
        layers["TANGENT"] = mesh.tangents
    if mesh.colors:
        layers["COLOR_0"] = CornerValues(colors_in(mesh, "linear"), mesh.colors.corners)
    return layers


def _vertices(layers: dict[str, CornerValues], chosen: I64) -> tuple[dict[str, F32], AnyArray]:
    """Vertex rows of some triangles, split where normals, UVs or colours differ, and uint32 indices.

    A layer that some corner lacks is left out, and with it those that the standard allows only beside it.
    """
    columns: dict[str, AnyArray] = {}
    for key, layer in layers.items():
        corners = layer.corners[chosen].reshape(-1)
        channel = int(key[9:]) if key.startswith("TEXCOORD_") else 0
        beside = f"TEXCOORD_{channel - 1}" if channel else "NORMAL" if key == "TANGENT" else "POSITION"
        if (corners >= 0).all() and (beside in columns or key == "POSITION"):
            columns[key] = corners
    first, place = _distinct(list(columns.values()))
    rows = {key: np.asarray(layers[key].values[corners[first]], np.float32) for key, corners in columns.items()}
    return rows, place.astype(np.uint32)


def _distinct(columns: list[I32]) -> tuple[AnyArray, AnyArray]:
    """Where each distinct row of some columns (N,) first stands, in their order, and which of them each row is."""
    first, place = np.unique(columns[0], return_index=True, return_inverse=True)[1:]
    for n, column in enumerate(columns[1:], 1):
        if any(column is earlier or np.array_equal(column, earlier) for earlier in columns[:n]):
            continue
        key = place * (np.int64(column.max(initial=0)) + 1) + column
        first, place = np.unique(key, return_index=True, return_inverse=True)[1:]
    return first, place
