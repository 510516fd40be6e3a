"""Arrays in one message: the form in which meshes are kept by the store and sent to the browser.

A 4-byte little-endian length, a JSON header of that length padded to 4 bytes, then the arrays named in it, each with
its type, shape and offset from the end of the header.
"""

import json
import pathlib
from typing import Any

import numpy as np

from ..base.array_types import I32, AnyArray
from ..base.errors import InputProblem
from .mesh import NO_OFFSET, CornerValues, Mesh
from .textures import Texture

Blocks = list[bytes | memoryview]
LAYERS = ("normals", "tangents", "colors")


def pack(header: dict[str, Any], arrays: dict[str, AnyArray]) -> Blocks:
    """Blocks of bytes that make one message when written in order."""
    described, blocks, offset = {}, Blocks(), 0
    for name, array in arrays.items():
        plain = np.ascontiguousarray(array)
        described[name] = {"type": array.dtype.name, "shape": array.shape, "offset": offset}
        blocks.append(memoryview(plain.reshape(-1).view(np.uint8).data))
        padding = -plain.nbytes % 4
        blocks.append(b"\0" * padding)
        offset += plain.nbytes + padding
    text = json.dumps(header | {"arrays": described}).encode()
    text += b" " * (-len(text) % 4)
    return [len(text).to_bytes(4, "little"), text, *blocks]


def unpack(data: AnyArray) -> tuple[dict[str, Any], dict[str, AnyArray]]:
    """The header and the arrays of a message in `data (N,) uint8`, viewed in place."""
    size = int.from_bytes(data[:4].tobytes(), "little")
    header = json.loads(data[4 : 4 + size].tobytes())
    arrays = {}
    for name, a in header.pop("arrays").items():
        kind = np.dtype(a["type"])
        count = int(np.prod(a["shape"], dtype=np.int64))
        start = 4 + size + a["offset"]
        arrays[name] = data[start : start + count * kind.itemsize].view(kind).reshape(a["shape"])
    return header, arrays


def unpack_header(path: pathlib.Path) -> dict[str, Any]:
    """The header of a message in a file, without its arrays."""
    with path.open("rb") as file:
        size = int.from_bytes(file.read(4), "little")
        header: dict[str, Any] = json.loads(file.read(size))
    return header


def write_blocks(path: pathlib.Path, blocks: Blocks) -> None:
    with path.open("wb") as file:
        for block in blocks:
            file.write(block)


def write_packed(path: pathlib.Path, mesh: Mesh) -> None:
    """Write a mesh so that `read_packed` gives it back bit for bit."""
    write_blocks(path, packed(mesh))


def packed(mesh: Mesh) -> Blocks:
    """A mesh as one message; corners that layers share are kept once."""
    kept: list[I32] = [mesh.triangles]
    arrays: dict[str, AnyArray] = {
        "positions": mesh.positions,
        "objects": mesh.objects,
        "materials": mesh.materials,
        "material_colors": mesh.material_colors,
        "emission_colors": mesh.emission_colors,
    }
    if mesh.polygons is not None:
        arrays["polygons"] = mesh.polygons

    def corners_row(corners: I32) -> int:
        for n, known in enumerate(kept):
            if known is corners or np.array_equal(known, corners):
                return n
        kept.append(corners)
        return len(kept) - 1

    layers = {name: getattr(mesh, name) for name in LAYERS} | {f"uv{n}": uv for n, uv in enumerate(mesh.uvs)}
    rows = {}
    for name, layer in layers.items():
        if layer is not None:
            arrays[name] = layer.values
            rows[name] = corners_row(layer.corners)
    arrays |= {f"corners{n}": corners for n, corners in enumerate(kept)}
    pictures = [*mesh.textures, *mesh.emission_textures]
    textures = {n: t for n, t in enumerate(pictures) if t is not None}
    arrays |= {f"texture{n}": t.data for n, t in textures.items()}
    header = {
        "name": mesh.name,
        "object_names": mesh.object_names,
        "material_names": mesh.material_names,
        "layers": rows,
        "textures": {n: [t.name, t.channel, t.turned, t.tint] for n, t in textures.items()},
        "color_space": mesh.color_space,
        "notes": mesh.notes,
        "origin": mesh.origin,
    }
    return pack(header, arrays)


def read_packed(path: pathlib.Path) -> Mesh:
    """A mesh of `write_packed`, its arrays mapped from the file.

    They are mapped copy-on-write: compiled code would be compiled once more for arrays that cannot be written.
    """
    header, arrays = unpack(np.asarray(np.memmap(path, np.uint8, "c")))
    return _mesh(header, arrays, header["name"])


def _mesh(header: dict[str, Any], a: dict[str, AnyArray], name: str) -> Mesh:
    layers = {name: CornerValues(a[name], a[f"corners{row}"]) for name, row in header["layers"].items()}
    count = len(header["material_names"])
    textures = list[Texture | None]([None] * (2 * count))  # of colours, then of what glows
    for n, (called, channel, turned, tint) in header.get("textures", {}).items():
        textures[int(n)] = Texture(called, a[f"texture{n}"], channel, tuple(turned), tuple(tint))
    return Mesh(
        name,
        a["positions"],
        a["corners0"],
        normals=layers.get("normals"),
        uvs=tuple(layers[f"uv{n}"] for n in range(sum(name.startswith("uv") for name in layers))),
        tangents=layers.get("tangents"),
        colors=layers.get("colors"),
        polygons=a.get("polygons"),
        objects=a["objects"],
        object_names=tuple(header["object_names"]),
        materials=a["materials"],
        material_names=tuple(header["material_names"]),
        material_colors=a["material_colors"],
        textures=tuple(textures[:count]),
        emission_textures=tuple(textures[count:]),
        emission_colors=a.get("emission_colors", np.zeros((0, 3), np.float32)),
        color_space="srgb" if header.get("color_space") == "srgb" else "linear",
        notes=tuple(str(note)[:400] for note in header.get("notes", [])[:100]),
        origin=_origin(header.get("origin", NO_OFFSET)),
    )


def _origin(given: Any) -> tuple[float, float, float]:
    x, y, z = map(float, given)
    return x, y, z


def read_foreign(data: bytes, name: str) -> Mesh:
    """A packed mesh that came from elsewhere, checked throughout before anything computes with it.

    `name` is what messages call it. Raises InputProblem.
    """
    try:
        header, arrays = unpack(np.frombuffer(bytearray(data), np.uint8))
        mesh = _mesh(header, arrays, name)
        wrong = _wrong(mesh) if all(a.flags.aligned for a in arrays.values()) else "its arrays are out of place"
    except (KeyError, TypeError, ValueError, AttributeError, IndexError, OverflowError, RecursionError) as error:
        wrong = f"its description is damaged ({error})"
    if wrong:
        raise InputProblem(name, f"The mesh cannot be used: {wrong}.", "Save the piece again where it was made.")
    return mesh


def _wrong(mesh: Mesh) -> str:
    """What about the arrays of a mesh would break what computes with them; "" for nothing."""
    count, rows = len(mesh.triangles), len(mesh.positions)
    layers = [("positions", mesh.positions, mesh.triangles, 3, 0)]
    named = [("normals", mesh.normals, 3), ("tangents", mesh.tangents, 4), ("colours", mesh.colors, 4)]
    named += [(f"UVs {n}", uv, 2) for n, uv in enumerate(mesh.uvs)]
    layers += [(what, layer.values, layer.corners, width, -1) for what, layer, width in named if layer is not None]
    for what, values, corners, width, least in layers:
        if values.ndim != 2 or values.shape[1] != width or values.dtype != np.float32 or not np.isfinite(values).all():
            return f"its {what} are no finite numbers"
        if corners.shape != (count, 3) or corners.dtype != np.int32:
            return f"its {what} do not fit its triangles"
        if count and (corners.min() < least or corners.max() >= max(len(values), least + 1)):
            return f"its {what} name rows that are not there"
    for what, of, most in (
        ("objects", mesh.objects, len(mesh.object_names)),
        ("materials", mesh.materials, len(mesh.material_names)),
        ("polygons", mesh.polygons, 1 << 31),
    ):
        if of is not None and (
            of.shape != (count,) or of.dtype != np.int32 or (count and (of.min() < 0 or of.max() >= most))
        ):
            return f"its {what} are not those of its triangles"
    if not count or not rows:
        return "it holds no triangles"
    if not np.isfinite(mesh.origin).all():
        return "its origin is no place"
    colors = mesh.material_colors
    if colors.shape != (len(mesh.material_names), 3) or not np.isfinite(colors).all():
        return "its materials have no colours"
    if not all(isinstance(name, str) for name in (*mesh.object_names, *mesh.material_names)):
        return "its names are no text"
    return ""
