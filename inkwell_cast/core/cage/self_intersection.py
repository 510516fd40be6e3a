"""Cage faces that are folded over, or that cross others of the same object."""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F64, I32, I64, Bool
from ..base.kernels import kernel
from ..mesh.adjacency import edges_of
from ..mesh.mesh import corner_positions
from ..piece.piece import Assembly
from .cage import Cage


@dataclass(frozen=True, slots=True)
class Folds:
    """folded and crossing (T,) bool mark triangles of the low whose cage face does so."""

    folded: Bool
    crossing: Bool


def folds_of(assembly: Assembly, cage: Cage) -> Folds:
    """A cage face is folded where its normal looks away from the low's, and crosses where an edge pierces another."""
    low = corner_positions(assembly.low).astype(np.float64)
    points = low + cage.corners
    folded = np.einsum("tc,tc->t", _normals(low), _normals(points)) < 0
    crossing = np.zeros(len(points), np.bool_)
    ids = edges_of(assembly.low).ids
    boxes = np.concatenate([points.min(axis=1), points.max(axis=1)], axis=1)
    for n in range(len(assembly.low.object_names)):
        rows = np.flatnonzero(assembly.low.objects == n)
        _cross(points, ids, boxes, rows[np.argsort(boxes[rows, 0], kind="stable")], crossing)
    return Folds(folded, crossing)


def _normals(corners: F64) -> F64:
    return np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])


@kernel
def _cross(points: F64, ids: I32, boxes: F64, rows: I64, crossing: Bool) -> None:
    """Mark pairs of triangles that share no vertex and pierce each other; `rows` ascend by their box's lowest x."""
    for i in range(len(rows)):
        t = rows[i]
        for j in range(i + 1, len(rows)):
            g = rows[j]
            if boxes[g, 0] > boxes[t, 3]:
                break
            if (
                boxes[g, 1] > boxes[t, 4]
                or boxes[t, 1] > boxes[g, 4]
                or boxes[g, 2] > boxes[t, 5]
                or boxes[t, 2] > boxes[g, 5]
            ):
                continue
            shared = False
            for a in range(3):
                for b in range(3):
                    shared |= ids[t, a] == ids[g, b]
            if not shared and (_pierces(points[t], points[g]) or _pierces(points[g], points[t])):
                crossing[t] = crossing[g] = True


@kernel
def _pierces(p: F64, q: F64) -> bool:
    """Whether an edge of triangle p passes through triangle q."""
    ux, uy, uz = q[1, 0] - q[0, 0], q[1, 1] - q[0, 1], q[1, 2] - q[0, 2]
    vx, vy, vz = q[2, 0] - q[0, 0], q[2, 1] - q[0, 1], q[2, 2] - q[0, 2]
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    square = nx * nx + ny * ny + nz * nz
    if square == 0:
        return False
    for k in range(3):
        m = (k + 1) % 3
        a = nx * (p[k, 0] - q[0, 0]) + ny * (p[k, 1] - q[0, 1]) + nz * (p[k, 2] - q[0, 2])
        b = nx * (p[m, 0] - q[0, 0]) + ny * (p[m, 1] - q[0, 1]) + nz * (p[m, 2] - q[0, 2])
        if a * b >= 0:
            continue
        s = a / (a - b)
        wx = p[k, 0] + s * (p[m, 0] - p[k, 0]) - q[0, 0]
        wy = p[k, 1] + s * (p[m, 1] - p[k, 1]) - q[0, 1]
        wz = p[k, 2] + s * (p[m, 2] - p[k, 2]) - q[0, 2]
        b1 = ((wy * vz - wz * vy) * nx + (wz * vx - wx * vz) * ny + (wx * vy - wy * vx) * nz) / square
        b2 = ((uy * wz - uz * wy) * nx + (uz * wx - ux * wz) * ny + (ux * wy - uy * wx) * nz) / square
        if b1 > 0 and b2 > 0 and b1 + b2 < 1:
            return True
    return False
