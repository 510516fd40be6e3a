"""FBX, read through the Open Asset Import Library in a child process.

Kept: node transforms (applied), node names as objects, material names and diffuse colours, per-corner normals, every
UV set and vertex colours. Polygons are cut by that library, not by `polygons`. Centimetres and axes stay the file's.
"""

import pathlib
from typing import Any

import numpy as np

from ..arrays import F32, F64
from ..errors import InputProblem
from ..mesh import Layer, Mesh, merge
from ..transform import one_name_each, transformed
from .isolated import read_in_child

SUFFIXES = (".fbx",)
_HELPERS = "_$AssimpFbx$_"  # the library adds nodes for pivots under such names


def read(path: pathlib.Path) -> Mesh:
    """Read one file as one mesh. Raises InputProblem."""
    return read_in_child(path, __name__)


def parse(path: pathlib.Path) -> Mesh:
    """The same in this process; the library may crash on damaged files."""
    import assimp_py as library

    try:
        scene = library.import_file(str(path), library.Process_Triangulate | library.Process_SortByPType)
    except Exception as error:
        raise InputProblem(path.name, f"It cannot be read as FBX ({error}).", "") from error
    parts = []
    waiting: list[tuple[Any, F64, str]] = [(scene.root_node, np.eye(4), "")]
    while waiting:
        node, above, owner = waiting.pop()
        matrix = above @ np.array(node.transformation, np.float64).reshape(4, 4)
        name = owner if _HELPERS in node.name else node.name
        parts += [_part(path, scene, scene.meshes[m], name or node.name, matrix) for m in node.mesh_indices]
        waiting += [(child, matrix, name) for child in reversed(node.children)]
    parts = [part for part in parts if len(part.triangles)]
    if not parts:
        raise InputProblem(path.name, "It holds no triangles.", "")
    return one_name_each(merge(parts, path.name))


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
        uvs.append(Layer(_rows(values, np.float32, width)[:, :2].copy(), triangles))
    colors = [_rows(values, np.float32, 4) for values in mesh.colors or [] if len(values)]
    material = scene.materials[mesh.material_index] if scene.materials else {}
    color = (material.get("COLOR_DIFFUSE") or [0.5, 0.5, 0.5])[:3]
    made = Mesh(
        path.name, positions, triangles, normals=Layer(normals, triangles) if normals is not None else None,
        uvs=tuple(uvs), colors=Layer(colors[0], triangles) if colors else None, object_names=(name,),
        material_names=(str(material.get("NAME", "")),), material_colors=np.array([color], np.float32),
    )  # fmt: skip
    return transformed(made, matrix)
