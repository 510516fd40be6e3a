"""The sphere that everything is measured on: smooth as the low, displaced as the high."""

import pathlib

import numpy as np

from inkwell_cast.core.formats.ply_writer import write
from inkwell_cast.core.mesh.mesh import CornerValues, Mesh


def sphere(around: int, bumps: float = 0.0, uvs: bool = True) -> Mesh:
    """A sphere of about 2 around^2 / 2 triangles; `bumps` is the height of its waves."""
    down = around // 2
    a = np.linspace(0, 2 * np.pi, around + 1)[:, None]
    b = np.linspace(0.02, np.pi - 0.02, down + 1)[None, :]
    radius = 1 + bumps * np.sin(23 * a) * np.sin(29 * b)
    points = np.stack([radius * np.sin(b) * np.cos(a), radius * np.cos(b) + 0 * a, -radius * np.sin(b) * np.sin(a)], -1)
    points = points.reshape(-1, 3).astype(np.float32)
    index = np.arange((around + 1) * (down + 1), dtype=np.int32).reshape(around + 1, down + 1)
    p, q, r, s = index[:-1, :-1], index[1:, :-1], index[1:, 1:], index[:-1, 1:]
    triangles = np.concatenate([np.stack([p, r, q], -1).reshape(-1, 3), np.stack([p, s, r], -1).reshape(-1, 3)])
    u, v = np.meshgrid(np.linspace(0, 1, around + 1), np.linspace(1, 0, down + 1), indexing="ij")
    flat = np.stack([u, v], -1).reshape(-1, 2).astype(np.float32)
    normals = points / np.linalg.norm(points, axis=1, keepdims=True)
    return Mesh(
        "sphere",
        points,
        triangles,
        normals=CornerValues(normals, triangles),
        uvs=(CornerValues(flat, triangles),) if uvs else (),
    )


def write_large(path: pathlib.Path, triangles: int) -> None:
    """A displaced sphere with normals as binary PLY."""
    write(path, sphere(int(triangles**0.5), 0.02, uvs=False))
