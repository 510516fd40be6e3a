"""The light form of a mesh that a browser draws.

One message: a 4-byte little-endian length, a JSON header of that length padded to 4 bytes, then the arrays named in
it, each with its type, shape and offset from the end of the header.
"""

import json
from typing import Any

import numpy as np

from .arrays import F32, Any_
from .basis import mikktspace
from .mesh import Layer, Mesh, corner_positions
from .normals import averaged, with_normals

STAND_IN_ABOVE = 500_000
STAND_IN_TRIANGLES = 240_000
WEARS_MAPS_UP_TO = 200_000


def view_of(mesh: Mesh) -> bytes:
    """The message for one mesh.

    A mesh with UVs comes corner by corner with tangents and cage directions, so that it can wear maps; a dense one
    without comes indexed; one over half a million triangles through a decimated stand-in.
    """
    mesh = with_normals(mesh)
    header = {"name": mesh.name, "triangles": len(mesh.triangles), "bounds": mesh.bounds.tolist(), "standIn": False}
    wears = bool(mesh.uvs) and mesh.uvs[0].complete and len(mesh.triangles) <= WEARS_MAPS_UP_TO
    if wears:
        return pack(header | {"objects": mesh.object_names}, _with_tangents(mesh))
    if len(mesh.triangles) > STAND_IN_ABOVE:
        return pack(header | {"standIn": True}, _stand_in(mesh))
    return pack(header, _indexed(mesh))


def _with_tangents(mesh: Mesh) -> dict[str, Any_]:
    assert mesh.normals is not None
    return {
        "position": corner_positions(mesh).reshape(-1, 3),
        "normal": mesh.normals.at_corners().reshape(-1, 3),
        "tangent": mikktspace(mesh).reshape(-1, 4),
        "cage": averaged(mesh).reshape(-1, 3),
        "uv": mesh.uvs[0].at_corners().reshape(-1, 2),
        "color": np.repeat(_colors(mesh), 3, axis=0),
        "object": mesh.objects,
    }


def _colors(mesh: Mesh) -> Any_:
    """Material colour of every triangle, (T, 3) uint8."""
    return np.rint(np.clip(mesh.material_colors, 0, 1) * 255).astype(np.uint8)[mesh.materials]


def _indexed(mesh: Mesh) -> dict[str, Any_]:
    assert mesh.normals is not None
    normals: Layer = mesh.normals
    if normals.corners is mesh.triangles or np.array_equal(normals.corners, mesh.triangles):
        colors = np.empty((len(mesh.positions), 3), np.uint8)
        colors[mesh.triangles] = _colors(mesh)[:, None]
        return {
            "position": mesh.positions, "normal": normals.values[: len(mesh.positions)], "color": colors,
            "index": mesh.triangles.astype(np.uint32).reshape(-1),
        }  # fmt: skip
    return {
        "position": corner_positions(mesh).reshape(-1, 3),
        "normal": normals.at_corners().reshape(-1, 3),
        "color": np.repeat(_colors(mesh), 3, axis=0),
    }


def _stand_in(mesh: Mesh) -> dict[str, Any_]:
    """Fewer triangles of the same shape, with the normals and colours of the nearest vertices of the mesh."""
    import fast_simplification
    from scipy.spatial import cKDTree

    assert mesh.normals is not None
    share = 1 - STAND_IN_TRIANGLES / len(mesh.triangles)
    points, faces = fast_simplification.simplify(mesh.positions, mesh.triangles, share)
    points = np.asarray(points, np.float32)
    corner = np.zeros(len(mesh.positions), np.int64)
    corner[mesh.triangles.reshape(-1)] = np.arange(3 * len(mesh.triangles))
    nearest = corner[cKDTree(mesh.positions).query(points, workers=-1)[1]]
    normals: F32 = mesh.normals.values[mesh.normals.corners.reshape(-1)[nearest]]
    return {
        "position": points, "normal": normals, "color": _colors(mesh)[nearest // 3],
        "index": np.asarray(faces, np.uint32).reshape(-1),
    }  # fmt: skip


def pack(header: dict[str, Any], arrays: dict[str, Any_]) -> bytes:
    """Join a header and arrays into one message."""
    described, blobs, offset = {}, [], 0
    for name, array in arrays.items():
        blob = np.ascontiguousarray(array).tobytes()
        described[name] = {"type": array.dtype.name, "shape": array.shape, "offset": offset}
        blobs.append(blob + b"\0" * (-len(blob) % 4))
        offset += len(blobs[-1])
    text = json.dumps(header | {"arrays": described}).encode()
    text += b" " * (-len(text) % 4)
    return b"".join([len(text).to_bytes(4, "little"), text, *blobs])
