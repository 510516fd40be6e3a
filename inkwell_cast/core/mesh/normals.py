"""Normals: from the file, else smooth by faces weighted with their corner angle.

Angle weights: G. Thürmer and C. Wüthrich, "Computing vertex normals from polygonal facets", Journal of Graphics
Tools 3(1), 1998. Positions that are equal bit for bit count as one vertex, whatever the file indexes.
"""

from dataclasses import replace

import numpy as np

from ..base.array_types import F32, F64, I32, AnyArray, Bool
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from .mesh import CornerValues, Mesh, values_at_corners


def weld(values: F32) -> I32:
    """For every row of `values (V, K) float32` the index of the first row equal to it: (V,) int32. -0 equals 0."""
    with np.errstate(invalid="ignore"):
        plain = np.ascontiguousarray(values, np.float32) + np.float32(0)
    return _first_equal(plain.view(np.uint32).reshape(len(values), values.shape[1]))


@kernel
def _first_equal(rows: AnyArray) -> I32:
    count, width = rows.shape
    size = 1024
    while size < 2 * count:
        size *= 2
    table = np.full(size, -1, np.int32)
    first = np.empty(count, np.int32)
    for i in range(count):
        h = np.uint64(14695981039346656037)
        for k in range(width):
            h = (h ^ np.uint64(rows[i, k])) * np.uint64(1099511628211)
            h ^= h >> np.uint64(29)
        slot = np.int64(h & np.uint64(size - 1))
        while True:
            j = table[slot]
            if j < 0:
                table[slot] = i
                first[i] = i
                break
            same = True
            for k in range(width):
                if rows[j, k] != rows[i, k]:
                    same = False
                    break
            if same:
                first[i] = j
                break
            slot = (slot + 1) & (size - 1)
    return first


def vertices(mesh: Mesh) -> tuple[F32, I32, I32]:
    """Positions, triangles, and for every position the first one it counts as one vertex with.

    Equal positions are one vertex within an object and several across objects, so that parts that touch stay apart.
    Positions that a file shares between objects are split, so the arrays may be longer than the mesh's own.
    """
    positions, triangles = mesh.positions, mesh.triangles
    if len(mesh.object_names) == 1:
        return positions, triangles, weld(positions)
    owner = np.zeros(len(positions), np.int32)
    owner[triangles] = mesh.objects[:, None]
    if (owner[triangles] != mesh.objects[:, None]).any():
        keys = triangles.astype(np.int64) * len(mesh.object_names) + mesh.objects[:, None]
        unique, place = np.unique(keys.reshape(-1), return_inverse=True)
        positions = positions[unique // len(mesh.object_names)]
        owner = (unique % len(mesh.object_names)).astype(np.int32)
        triangles = place.reshape(-1, 3).astype(np.int32)
    return positions, triangles, weld(np.concatenate([positions, owner[:, None].astype(np.float32)], axis=1))


def smooth(mesh: Mesh) -> CornerValues:
    """Smooth normals, one a vertex, of faces weighted with their corner angle."""
    positions, triangles, shared = vertices(mesh)
    sums = _angle_weighted(positions, triangles, shared)
    return CornerValues(sums[shared], triangles)


@kernel
def _corner(p0: F64, p1: F64, p2: F64) -> float:
    """Angle at p0 of the triangle p0 p1 p2."""
    ax, ay, az = p1[0] - p0[0], p1[1] - p0[1], p1[2] - p0[2]
    bx, by, bz = p2[0] - p0[0], p2[1] - p0[1], p2[2] - p0[2]
    cx, cy, cz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
    return np.arctan2(np.sqrt(cx * cx + cy * cy + cz * cz), ax * bx + ay * by + az * bz)


@kernel
def _angle_weighted(positions: F32, triangles: I32, shared: I32) -> F32:
    sums = np.zeros(positions.shape, np.float32)
    p = np.empty((3, 3), np.float64)
    for f in range(len(triangles)):
        for i in range(3):
            for k in range(3):
                p[i, k] = positions[triangles[f, i], k]
        ax, ay, az = p[1, 0] - p[0, 0], p[1, 1] - p[0, 1], p[1, 2] - p[0, 2]
        bx, by, bz = p[2, 0] - p[0, 0], p[2, 1] - p[0, 1], p[2, 2] - p[0, 2]
        nx, ny, nz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
        length = np.sqrt(nx * nx + ny * ny + nz * nz)
        if length == 0:
            continue
        a0 = _corner(p[0], p[1], p[2])
        a1 = _corner(p[1], p[2], p[0])
        a2 = np.pi - a0 - a1
        for i in range(3):
            a = (a0 if i == 0 else a1 if i == 1 else a2) / length
            v = shared[triangles[f, i]]
            sums[v, 0] += a * nx
            sums[v, 1] += a * ny
            sums[v, 2] += a * nz
    _to_unit(sums)
    return sums


@kernel
def _to_unit(rows: F32) -> int:
    """Scale rows to unit length in place; rows that already are stay as they are, bit for bit. Returns the zeros."""
    zeros = 0
    for i in range(len(rows)):
        x, y, z = np.float64(rows[i, 0]), np.float64(rows[i, 1]), np.float64(rows[i, 2])
        square = x * x + y * y + z * z
        if square == 0:
            zeros += 1
        elif abs(square - 1) > 4e-7:
            length = np.sqrt(square)
            rows[i, 0], rows[i, 1], rows[i, 2] = x / length, y / length, z / length
    return zeros


def with_normals(mesh: Mesh) -> Mesh:
    """The mesh with a unit normal at every corner: those of the file where it has them, else smooth ones."""
    if mesh.normals is None:
        return replace(mesh, normals=smooth(mesh))
    values = mesh.normals.values.copy()
    zeros = _to_unit(values)
    if mesh.normals.complete and not zeros:
        return replace(mesh, normals=CornerValues(values, mesh.normals.corners))
    missing = mesh.normals.corners < 0
    if zeros:
        without: Bool = ~np.any(values, axis=1)
        missing |= without[mesh.normals.corners]
    mixed = CornerValues(values, mesh.normals.corners).at_corners()
    mixed[missing] = smooth(mesh).at_corners()[missing]
    return replace(mesh, normals=values_at_corners(mixed))


def face_normals(positions: F32, triangles: I32) -> F64:
    """Unit normals of the faces, (T, 3) float64; zero for triangles without area."""
    p = positions[triangles].astype(np.float64)
    n = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
    length = np.linalg.norm(n, axis=1, keepdims=True)
    return np.divide(n, length, out=np.zeros_like(n), where=length > 0)


@kernel(inline="always")
def face_normal(a: AnyArray, b: AnyArray, c: AnyArray) -> Vector:
    """Unit normal of a triangle in a kernel; zero for one without area."""
    ux, uy, uz = np.float64(b[0] - a[0]), np.float64(b[1] - a[1]), np.float64(b[2] - a[2])
    vx, vy, vz = np.float64(c[0] - a[0]), np.float64(c[1] - a[1]), np.float64(c[2] - a[2])
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    length = np.sqrt(nx * nx + ny * ny + nz * nz)
    scale = 1 / length if length > 0 else 0.0
    return nx * scale, ny * scale, nz * scale


def averaged(mesh: Mesh) -> F32:
    """The direction in which the cage leaves each corner: (T, 3, 3) float32, unit.

    Corner normals are averaged over all faces that meet in a position, weighted by corner angle, across hard edges
    and UV seams alike, so that the cage has no cracks.
    """
    if mesh.normals is None:
        raise ValueError("averaged: the mesh has no normals; call with_normals first")
    positions, triangles, shared = vertices(mesh)
    sums = _averaged(positions, triangles, shared, mesh.normals.values, mesh.normals.corners)
    lost = ~sums.any(axis=1)
    if lost.any():  # opposite normals cancel out, as at the rim of a doubled sheet: fall back to the faces
        sums[lost] = smooth(mesh).values[lost]
    return np.asarray(sums[shared[triangles]], np.float32)


@kernel
def _averaged(positions: F32, triangles: I32, shared: I32, values: F32, corners: I32) -> F32:
    sums = np.zeros(positions.shape, np.float32)
    p = np.empty((3, 3), np.float64)
    for f in range(len(triangles)):
        for i in range(3):
            for k in range(3):
                p[i, k] = positions[triangles[f, i], k]
        for i in range(3):
            a = _corner(p[i], p[(i + 1) % 3], p[(i + 2) % 3])
            v = shared[triangles[f, i]]
            for k in range(3):
                sums[v, k] += a * values[corners[f, i], k]
    for i in range(len(sums)):
        if sums[i, 0] ** 2 + sums[i, 1] ** 2 + sums[i, 2] ** 2 < 1e-10:
            sums[i] = 0
    _to_unit(sums)
    return sums
