"""Places spread evenly over a surface."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, F64, I32, I64
from ..base.kernels import kernel
from ..base.threads import in_batches


def spread_over(points: F64, rows: I64, count: int) -> tuple[F64, I64, F64]:
    """About `count` places over some triangles of points (T, 3, 3) by their area, at least one on each.

    Gives places (N, 3), the triangle of each (N,) and its barycentrics (N, 3).
    """
    p = points[rows]
    area = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    each = np.ceil(count * area / max(float(area.sum()), 1e-300)).astype(np.int64) + 1
    owner = np.repeat(np.arange(len(rows)), each)
    k = np.arange(len(owner)) - np.repeat(np.cumsum(each) - each, each)
    b = in_triangle(k)
    return np.einsum("nk,nkc->nc", b, p[owner]), rows[owner], b


def few_over(points: F64, count: int) -> tuple[I64, F64]:
    """`count` places over triangles (T, 3, 3), evenly by area along their order: triangle (N,), barycentrics (N, 3)."""
    area = np.linalg.norm(np.cross(points[:, 1] - points[:, 0], points[:, 2] - points[:, 0]), axis=1)
    return _few_along(np.cumsum(area), count)


def _few_along(ends: F64, count: int) -> tuple[I64, F64]:
    """`count` places evenly by area from sums of areas up to each triangle (T,): triangle (N,), barycentrics (N, 3)."""
    if not len(ends) or ends[-1] <= 0:
        return np.zeros(0, np.int64), np.zeros((0, 3))
    k = np.arange(count)
    owner = np.searchsorted(ends, (k + 0.5) / count * ends[-1]).clip(0, len(ends) - 1)
    return owner.astype(np.int64), in_triangle(k)


@dataclass(frozen=True, slots=True)
class Surface:
    """Triangles (T, 3) of positions (V, 3) in parts; first (P + 1,), where each part begins; area up to each (T,).

    Nothing of it is copied corner by corner, so that it may be of any size.
    """

    positions: F32
    triangles: I32
    first: I64
    ends: F64

    def places(self, count: int) -> tuple[F64, I64]:
        """Places spread as by `few_over` (N, 3), and the triangle of each (N,)."""
        owner, b = _few_along(self.ends, count)
        return np.einsum("nk,nkc->nc", b, self.corners(owner)), owner

    def corners(self, rows: I64) -> F64:
        """Those of some triangles (N, 3, 3)."""
        return self.positions[self.triangles[rows]].astype(np.float64)

    def part_of(self, rows: I64) -> I64:
        """The part that each of some triangles belongs to (N,)."""
        return np.searchsorted(self.first, rows, side="right") - 1

    @property
    def area(self) -> float:
        return float(self.ends[-1]) if len(self.ends) else 0.0

    @property
    def box(self) -> F64:
        """Lowest and highest corner of what triangles use, (2, 3)."""
        return np.stack(box_around(self.positions, self.triangles)).astype(np.float64)


def box_around(positions: F32, triangles: I32) -> tuple[F32, F32]:
    """Lowest and highest corner (3,) of what triangles use."""
    used = np.zeros(len(positions), bool)
    used[triangles] = True
    columns = [positions[:, k][used] for k in range(3)]  # many times as fast as axis 0 of rows
    return np.array([c.min() for c in columns]), np.array([c.max() for c in columns])


def surface_of(parts: Sequence[tuple[F32, I32]]) -> Surface:
    """That of positions and triangles of one part or more."""
    positions, triangles = parts[0]
    if len(parts) > 1:
        before = np.cumsum([0, *[len(part[0]) for part in parts]])
        positions = np.concatenate([part[0] for part in parts])
        triangles = np.concatenate([part[1] + np.int32(n) for part, n in zip(parts, before[:-1].tolist(), strict=True)])
    areas = np.empty(len(triangles))
    in_batches(len(triangles), lambda i, j: _areas(i, j, positions, triangles, areas))
    first = np.cumsum([0, *[len(part[1]) for part in parts]]).astype(np.int64)
    return Surface(positions, triangles, first, np.cumsum(areas, out=areas))


@kernel
def _areas(first: int, last: int, positions: F32, triangles: I32, areas: F64) -> None:
    for t in range(first, last):
        a, b, c = positions[triangles[t, 0]], positions[triangles[t, 1]], positions[triangles[t, 2]]
        ux, uy, uz = np.float64(b[0]) - a[0], np.float64(b[1]) - a[1], np.float64(b[2]) - a[2]
        vx, vy, vz = np.float64(c[0]) - a[0], np.float64(c[1]) - a[1], np.float64(c[2]) - a[2]
        nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        areas[t] = 0.5 * np.sqrt(nx * nx + ny * ny + nz * nz)


def in_triangle(k: I64) -> F64:
    """Barycentrics of the k-th of an even spread: the R2 sequence (M. Roberts, 2018), folded into the triangle."""
    u, v = (0.5 + k * 0.7548776662466927) % 1, (0.5 + k * 0.5698402909980532) % 1
    over = u + v > 1
    u, v = np.where(over, 1 - u, u), np.where(over, 1 - v, v)
    return np.stack([1 - u - v, u, v], axis=1)
