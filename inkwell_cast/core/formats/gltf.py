"""glTF 2.0: GLB, and its text form with buffers inside or beside it.

Kept: node transforms (applied), node names as objects, materials with their base colour and emission, normals,
tangents, every TEXCOORD_n, COLOR_0. The image origin of glTF is top-left, so V is turned over on the way in and out.
Accessors are mapped, not copied, until they are joined. Buffers are looked for beside the file only, whatever path it
gives.
"""

import base64
import binascii
import json
import pathlib
from collections.abc import Iterator
from typing import Any
from urllib.parse import unquote

import numpy as np

from ..base.array_types import F32, F64, I32, U8, AnyArray
from ..base.errors import InputProblem
from ..base.kernel_types import Whole
from ..base.kernels import kernel
from ..mesh.mesh import CornerValues, Mesh, merge
from ..mesh.transforms import one_name_each, transformed
from .glb_writer import BIN_CHUNK, JSON_CHUNK, MAGIC, write
from .gltf_materials import GltfFile, looks_of, text_of
from .reading_budget import Budget

__all__ = ["SUFFIXES", "read", "write"]

SUFFIXES = (".glb", ".gltf")
COMPONENTS = {5120: "<i1", 5121: "<u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
UNDERSTOOD = {
    "KHR_mesh_quantization",
    "KHR_materials_unlit",
    "KHR_texture_transform",
    "EXT_mesh_gpu_instancing",
    "KHR_materials_emissive_strength",
}
MODES = {0: "points", 1: "lines", 2: "lines", 3: "lines"}
INSTANCING = "EXT_mesh_gpu_instancing"


def read(path: pathlib.Path, budget: Budget) -> Mesh:
    """Read every mesh of the file's scene as one mesh. Raises InputProblem for damaged or compressed files."""
    document, binary = _text(path) if path.suffix.lower() == ".gltf" else _chunks(path)
    unknown = set(document.get("extensionsRequired", [])) - UNDERSTOOD
    if unknown:
        named = ", ".join(sorted(map(str, unknown)))
        raise InputProblem(path.name, f"It needs the extension {named}.", f"Export it without {named}.")
    try:
        file = GltfFile(path, document, _buffers(path, document, binary), budget)
        placed = list(_placed(file))
        for primitive, _, matrices in placed:
            _count(file, primitive, len(matrices))
        parts = [
            _primitive(file, primitive, name, matrix) for primitive, name, matrices in placed for matrix in matrices
        ]
    except (KeyError, IndexError, TypeError, AttributeError, ValueError, OverflowError, RecursionError) as error:
        raise InputProblem(
            path.name, f"Its description names something that is not there ({error}).", "Export it again."
        ) from error
    if not parts:
        raise InputProblem(path.name, "Its scene holds no triangles.", "Export the mesh itself, not lines or points.")
    return one_name_each(merge(parts, path.name))


def _chunks(path: pathlib.Path) -> tuple[dict[str, Any], U8]:
    data = np.memmap(path, np.uint8, "r") if path.stat().st_size else np.zeros(0, np.uint8)
    cut = InputProblem(
        path.name, f"It ends too early ({len(data):,} bytes).", "The file is truncated; export it again."
    )
    if len(data) < 20:
        raise cut
    magic, version, length = (int(n) for n in data[:12].view("<u4"))
    if magic != MAGIC or version != 2:
        raise InputProblem(path.name, "It is not a GLB file of version 2.", "Export it as GLB (binary glTF 2.0).")
    if length > len(data):
        raise cut
    at, document, binary = 12, None, np.zeros(0, np.uint8)
    while at + 8 <= length:
        size, kind = (int(n) for n in np.frombuffer(data, "<u4", 2, at))
        body = data[at + 8 : at + 8 + size]
        if len(body) < size:
            raise cut
        if kind == JSON_CHUNK:
            try:
                document = json.loads(body.tobytes())
            except (ValueError, RecursionError) as error:
                raise InputProblem(path.name, f"Its description is damaged ({error}).", "Export it again.") from error
        elif kind == BIN_CHUNK:
            binary = body
        at += 8 + size
    if not isinstance(document, dict):
        raise InputProblem(path.name, "It has no description.", "Export it again.")
    return document, binary


def _text(path: pathlib.Path) -> tuple[dict[str, Any], U8]:
    try:
        document = json.loads(path.read_bytes())
    except (ValueError, RecursionError) as error:
        raise InputProblem(path.name, f"Its description is damaged ({error}).", "Export it again.") from error
    if not isinstance(document, dict) or "asset" not in document:
        raise InputProblem(path.name, "It is not a glTF file.", "Export it as glTF 2.0 or GLB.")
    return document, np.zeros(0, np.uint8)


def _buffers(path: pathlib.Path, document: dict[str, Any], binary: U8) -> list[U8]:
    """The file's buffers: its binary chunk, data URIs, and files that lie beside it."""
    buffers = []
    for n, buffer in enumerate(document.get("buffers", [])):
        uri = buffer.get("uri")
        if uri is None:
            buffers.append(binary)
        elif uri.startswith("data:"):
            try:
                buffers.append(np.frombuffer(base64.b64decode(uri.partition(",")[2], validate=True), np.uint8))
            except binascii.Error as error:
                raise InputProblem(path.name, f"Its buffer {n} is damaged ({error}).", "Export it again.") from error
        else:
            name = pathlib.PurePosixPath(unquote(uri).replace("\\", "/")).name
            beside = path.parent / name
            if not name or not beside.is_file():
                raise InputProblem(
                    path.name,
                    f"Its data lies in “{name or uri}”, which is not beside it.",
                    "Add that file together with this one, or export as one GLB file.",
                )
            buffers.append(np.memmap(beside, np.uint8, "r") if beside.stat().st_size else np.zeros(0, np.uint8))
        length = buffer.get("byteLength", 0)
        if length > len(buffers[-1]) + 3:
            raise InputProblem(
                path.name,
                f"Its buffer {n} should have {length:,} bytes and has {len(buffers[-1]):,}.",
                "The file is truncated; export it again.",
            )
    return buffers


def _placed(file: GltfFile) -> Iterator[tuple[dict[str, Any], str, list[F64]]]:
    """Every primitive that has triangles, with its name and the matrices of its instances."""
    for node, name, matrix in _nodes(file):
        matrices = [matrix]
        if INSTANCING in node.get("extensions", {}):
            matrices = _instances(file, node["extensions"][INSTANCING]["attributes"], matrix)
        for primitive in file.document["meshes"][node["mesh"]]["primitives"]:
            mode = primitive.get("mode", 4)
            if mode in (4, 5, 6):
                yield primitive, name, matrices
            else:
                file.budget.note(f"{name} holds {MODES[mode]}, which were left out.")


def _instances(file: GltfFile, attributes: dict[str, int], above: F64) -> list[F64]:
    """The matrices of a node's instances, of which each is a place, a turn and a size (EXT_mesh_gpu_instancing)."""
    counts = {int(file.document["accessors"][index]["count"]) for index in attributes.values()}
    if len(counts) != 1:
        raise ValueError("instances of different counts")
    file.budget.take(instances=counts.copy().pop())
    given = {key: _attribute(file, index, 4 if key == "ROTATION" else 3) for key, index in attributes.items()}
    names = {"TRANSLATION": "translation", "ROTATION": "rotation", "SCALE": "scale"}
    rows = [{name: given[key][n].tolist() for key, name in names.items() if key in given} for n in range(counts.pop())]
    return [above @ _matrix(row) for row in rows]


def _count(file: GltfFile, primitive: dict[str, Any], instances: int) -> None:
    """Tell the budget what the instances of a primitive will take."""
    accessors = file.document["accessors"]
    vertices = int(accessors[primitive["attributes"]["POSITION"]]["count"])
    corners = int(accessors[primitive["indices"]]["count"]) if "indices" in primitive else vertices
    faces = corners // 3 if primitive.get("mode", 4) == 4 else max(corners - 2, 0)
    file.budget.take(vertices * instances, faces * instances)


def _nodes(file: GltfFile) -> list[tuple[dict[str, Any], str, F64]]:
    """Nodes that carry a mesh, with a name and the matrix to scene space."""
    document = file.document
    nodes = document.get("nodes", [])
    scenes = document.get("scenes")
    inner = {child for node in nodes for child in node.get("children", [])}
    roots = scenes[document.get("scene", 0)].get("nodes", []) if scenes else set(range(len(nodes))) - inner
    placed: list[tuple[dict[str, Any], str, F64]] = []
    waiting = [(index, np.eye(4), 0) for index in reversed(list(roots))]
    while waiting:
        index, above, depth = waiting.pop()
        if depth > 1000:
            raise KeyError("a node that is its own child")
        file.budget.take(instances=1)
        node = nodes[index]
        matrix = above @ _matrix(node)
        if "mesh" in node:
            mesh = document["meshes"][node["mesh"]]
            placed.append((node, text_of(node) or text_of(mesh) or f"mesh {node['mesh']}", matrix))
        waiting += [(child, matrix, depth + 1) for child in reversed(node.get("children", []))]
    return placed


def _matrix(node: dict[str, Any]) -> F64:
    if "matrix" in node:
        return np.array(node["matrix"], np.float64).reshape(4, 4).T
    x, y, z, w = node.get("rotation", (0, 0, 0, 1))
    turn = np.array(
        [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    )
    matrix = np.eye(4)
    matrix[:3, :3] = turn * np.array(node.get("scale", (1, 1, 1)))
    matrix[:3, 3] = node.get("translation", (0, 0, 0))
    return matrix


def _accessor(file: GltfFile, index: int) -> AnyArray:
    """The rows of an accessor as a view of the file, (count, width) in their stored type."""
    accessor = file.document["accessors"][index]
    kind, width, count = np.dtype(COMPONENTS[accessor["componentType"]]), WIDTHS[accessor["type"]], accessor["count"]
    if count < 0:
        raise InputProblem(file.path.name, f"Accessor {index} has an impossible size.", "The file is damaged.")
    if "bufferView" in accessor:
        rows = _viewed(file, index, accessor, kind, width, count)
    else:  # nothing but zeros, which the sparse rows change
        file.budget.take(count)
        rows = np.zeros((count, width), kind)
    sparse = accessor.get("sparse")
    if not sparse:
        return rows
    changed, most = int(sparse["count"]), len(file.buffers)
    if not 0 <= changed <= count or not most:
        raise InputProblem(file.path.name, f"Accessor {index} has an impossible size.", "The file is damaged.")
    inner = sparse["indices"], sparse["values"]
    kinds = np.dtype(COMPONENTS[inner[0]["componentType"]]), kind
    places = _viewed(file, index, inner[0], kinds[0], 1, changed).reshape(-1)
    if changed and places.max() >= count:
        raise InputProblem(file.path.name, f"Accessor {index} changes rows that it has not.", "Export it again.")
    rows = np.array(rows)
    rows[places] = _viewed(file, index, inner[1], kinds[1], width, changed)
    return rows


def _viewed(
    file: GltfFile, index: int, accessor: dict[str, Any], kind: np.dtype[Any], width: int, count: int
) -> AnyArray:
    """Rows of a buffer view as they lie in the file."""
    path, document = file.path, file.document
    view = document["bufferViews"][accessor["bufferView"]]
    stride = view.get("byteStride") or width * kind.itemsize
    start = view.get("byteOffset", 0) + accessor.get("byteOffset", 0)
    data = file.buffers[view.get("buffer", 0)]
    if start < 0 or stride < width * kind.itemsize:
        raise InputProblem(path.name, f"Accessor {index} has an impossible size.", "The file is damaged.")
    if count and start + (count - 1) * stride + width * kind.itemsize > len(data):
        raise InputProblem(
            path.name, f"Accessor {index} reaches past the end of the data.", "The file is truncated; export it again."
        )
    return np.ndarray((count, width), kind, data, start, (stride, kind.itemsize))


def _floats(rows: AnyArray, normalised: bool) -> F32:
    if normalised and rows.dtype.kind in "iu":
        return np.asarray(np.maximum(rows / np.float32(np.iinfo(rows.dtype).max), -1), np.float32)
    return np.array(rows, np.float32)


def _attribute(file: GltfFile, index: int, width: int) -> F32:
    rows = _accessor(file, index)
    if rows.shape[1] < width:
        raise InputProblem(file.path.name, f"Accessor {index} holds {rows.shape[1]} numbers a row.", "Export it again.")
    return _floats(rows, bool(file.document["accessors"][index].get("normalized")))


def _primitive(file: GltfFile, primitive: dict[str, Any], name: str, matrix: F64) -> Mesh:
    attributes = primitive["attributes"]
    positions = _attribute(file, attributes["POSITION"], 3)
    if "indices" in primitive and primitive.get("mode", 4) == 4:
        triangles = _triangles(file.path, name, _accessor(file, primitive["indices"]), len(positions))
    else:
        triangles = np.arange(len(positions) // 3 * 3, dtype=np.int32).reshape(-1, 3)
    if primitive.get("mode", 4) != 4:
        flat = (
            _accessor(file, primitive["indices"]).reshape(-1) if "indices" in primitive else np.arange(len(positions))
        )
        triangles = _in_strips(file.path, name, flat, len(positions), primitive["mode"] == 6)

    def rows(key: str, width: int) -> F32:
        values = _attribute(file, attributes[key], width)
        if len(values) != len(positions):
            raise InputProblem(
                file.path.name,
                f"{key} has {len(values):,} rows for {len(positions):,} positions.",
                "Export it again.",
                name,
            )
        return values

    normals = rows("NORMAL", 3) if "NORMAL" in attributes else None
    tangents = rows("TANGENT", 4) if "TANGENT" in attributes else None
    uvs: list[CornerValues] = []
    while f"TEXCOORD_{len(uvs)}" in attributes:
        uv = rows(f"TEXCOORD_{len(uvs)}", 2)[:, :2]
        uv[:, 1] = 1 - uv[:, 1]
        uvs.append(CornerValues(uv, triangles))
    colors = None
    if "COLOR_0" in attributes:
        rgba = rows("COLOR_0", 3)[:, :4]
        colors = CornerValues(np.pad(rgba, ((0, 0), (0, 4 - rgba.shape[1])), constant_values=1), triangles)
    looks = looks_of(file, primitive.get("material"))
    read = Mesh(
        file.path.name, positions[:, :3], triangles,
        normals=CornerValues(normals[:, :3], triangles) if normals is not None else None, uvs=tuple(uvs),
        tangents=CornerValues(tangents, triangles) if tangents is not None else None, colors=colors,
        object_names=(name,), material_names=(looks.name,), material_colors=np.array([looks.color], np.float32),
        textures=(looks.texture,), emission_colors=np.array([looks.sent], np.float32),
        emission_textures=(looks.glowing,),
    )  # fmt: skip
    return transformed(read, file.budget.placed(matrix))


def _in_strips(path: pathlib.Path, name: str, flat: AnyArray, vertices: int, fan: bool) -> I32:
    """The triangles of a strip, of which every second is wound the other way, or of a fan; those of no area go."""
    corners = flat.astype(np.int64)
    if len(corners) and corners.max() >= vertices:
        raise InputProblem(
            path.name, f"A face names vertex {corners.max():,}, but there are {vertices:,}.", "Export it again.", name
        )
    n = np.arange(max(len(corners) - 2, 0))
    second, third = (n + 1, n + 2) if fan else (n + 1 + n % 2, n + 2 - n % 2)
    first = np.zeros_like(n) if fan else n
    rows = np.stack([corners[first], corners[second], corners[third]], axis=1) if len(n) else np.zeros((0, 3), np.int64)
    a, b, c = rows.T
    return rows[(a != b) & (b != c) & (c != a)].astype(np.int32)


def _triangles(path: pathlib.Path, name: str, indices: AnyArray, vertices: int) -> I32:
    flat = indices.reshape(-1)
    out = np.empty((len(flat) // 3, 3), np.int32)
    highest = _copy_indices(flat, out.reshape(-1))
    if len(flat) and highest >= vertices:
        raise InputProblem(
            path.name, f"A face names vertex {highest:,}, but there are {vertices:,}.", "Export the file again.", name
        )
    return out


@kernel
def _copy_indices(flat: AnyArray, out: I32) -> Whole:
    highest = np.int64(0)
    for i in range(len(out)):
        highest = max(highest, np.int64(flat[i]))
        out[i] = np.int32(flat[i])
    return highest
