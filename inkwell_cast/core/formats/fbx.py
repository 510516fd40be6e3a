"""FBX, read through the Open Asset Import Library in a child process.

Kept: node transforms (applied), node names as objects, material names and diffuse colours, per-corner normals, every
UV set and vertex colours. Polygons are cut by that library, not by `polygons`. Unit and axes stay the file's, and are
told where they are not centimetres and Y up.
"""

import pathlib
import re
import struct
from typing import Any

import numpy as np

from ..base.array_types import F32, F64
from ..base.errors import InputProblem
from ..mesh.mesh import CornerValues, Mesh, merge
from ..mesh.normals import weld
from ..mesh.transforms import one_name_each, transformed
from .child_process import read_in_child
from .reading_budget import Budget

SUFFIXES = (".fbx",)
_HELPERS = "_$AssimpFbx$_"  # the library adds nodes for pivots under such names


def read(path: pathlib.Path, budget: Budget) -> Mesh:
    """Read one file as one mesh. Raises InputProblem."""
    return read_in_child(path, __name__, budget)


def parse(path: pathlib.Path, budget: Budget) -> Mesh:
    """Read a file in this process; the library may crash on damaged ones."""
    import assimp_py as library

    try:
        scene = library.import_file(str(path), library.Process_Triangulate | library.Process_SortByPType)
    except Exception as error:
        raise InputProblem(path.name, f"It cannot be read as FBX ({error}).", "") from error
    said = axes_and_unit(path)
    if said:
        budget.note(said)
    parts = []
    root = scene.root_node  # its own matrix is the library's: it would turn a Z up file over, and scale it
    parts += [_part(path, scene, scene.meshes[m], root.name, budget.placed(np.eye(4))) for m in root.mesh_indices]
    waiting: list[tuple[Any, F64, str]] = [(child, np.eye(4), "") for child in reversed(root.children)]
    while waiting:
        node, above, owner = waiting.pop()
        budget.take(instances=1)
        matrix = above @ np.array(node.transformation, np.float64).reshape(4, 4)
        for m in node.mesh_indices:
            budget.take(scene.meshes[m].num_vertices, scene.meshes[m].num_faces)
        name = owner if _HELPERS in node.name else node.name
        placed = budget.placed(matrix)
        parts += [_part(path, scene, scene.meshes[m], name or node.name, placed) for m in node.mesh_indices]
        waiting += [(child, matrix, name) for child in reversed(node.children)]
    parts = [part for part in parts if len(part.triangles)]
    if not parts:
        raise InputProblem(path.name, "It holds no triangles.", "")
    return one_name_each(merge(parts, path.name))


def axes_and_unit(path: pathlib.Path) -> str:
    """What the file says of its up axis and unit, where that is not Y up and centimetres; "" where it says neither."""
    data = path.read_bytes()
    up, unit = _setting(data, b"UpAxis"), _setting(data, b"UnitScaleFactor")
    said = []
    if up is not None and int(up) in (0, 2):
        said.append(f"its up axis is {'XYZ'[int(up)]}")
    if unit is not None and unit > 0 and unit != 1:
        said.append(f"one unit is {unit:g} cm")
    if not said:
        return ""
    return f"The file says that {' and '.join(said)}. Nothing was turned or scaled; “Up axis” of the file turns it."


def _setting(data: bytes, name: bytes) -> float | None:
    """A number of the global settings, in the text or the binary form of the format."""
    text = re.search(rb'P: *"' + name + rb'" *,[^\n]*?, *(-?[0-9.eE+]+)\s*\r?\n', data)
    if text:
        try:
            return float(text.group(1))
        except ValueError:
            return None
    at = data.find(b"S" + len(name).to_bytes(4, "little") + name + b"S")
    if at < 0:
        return None
    at += 5 + len(name)
    for _ in range(3):  # type, label and flags stand between name and value
        if data[at : at + 1] != b"S":
            return None
        at += 5 + int.from_bytes(data[at + 1 : at + 5], "little")
    form = {b"I": "<i", b"D": "<d", b"F": "<f", b"L": "<q"}.get(data[at : at + 1])
    if form is None or at + 1 + struct.calcsize(form) > len(data):
        return None
    return float(struct.unpack_from(form, data, at + 1)[0])


def _rows(data: Any, kind: type, width: int) -> Any:
    return np.array(data, kind).reshape(-1, width)


def _part(path: pathlib.Path, scene: Any, mesh: Any, name: str, matrix: F64) -> Mesh:
    positions: F32 = _rows(mesh.vertices, np.float32, 3)
    indices = np.array(mesh.indices, np.int64)
    if mesh.num_faces * 3 != len(indices):  # points and lines
        indices = indices[:0]
    triangles = indices.reshape(-1, 3).astype(np.int32)
    normals = _rows(mesh.normals, np.float32, 3) if mesh.normals else None
    uvs = []
    widths = mesh.num_uv_components if isinstance(mesh.num_uv_components, (list, tuple)) else [2] * 8
    for channel, values in enumerate(mesh.texcoords or []):
        width = len(np.array(values, np.float32)) // max(len(positions), 1) or widths[channel]
        uvs.append(CornerValues(_rows(values, np.float32, width)[:, :2].copy(), triangles))
    colors = [_rows(values, np.float32, 4) for values in mesh.colors or [] if len(values)]
    material = scene.materials[mesh.material_index] if scene.materials else {}
    color = (material.get("COLOR_DIFFUSE") or [0.5, 0.5, 0.5])[:3]
    sent = (material.get("COLOR_EMISSIVE") or [0.0, 0.0, 0.0])[:3]
    joined, rows = np.unique(weld(positions), return_inverse=True)  # the library parts them corner by corner
    piece = Mesh(
        path.name,
        positions[joined],
        rows.reshape(-1).astype(np.int32)[triangles],
        normals=CornerValues(normals, triangles) if normals is not None else None,
        uvs=tuple(uvs),
        colors=CornerValues(colors[0], triangles) if colors else None,
        color_space="srgb",
        object_names=(name,),
        material_names=(str(material.get("NAME", "")),),
        material_colors=np.array([color], np.float32),
        emission_colors=np.array([sent], np.float32),
    )
    return transformed(piece, matrix)
