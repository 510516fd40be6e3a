"""Places spread evenly over a surface."""

import numpy as np

from ..base.array_types import F64, I64


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
    ends = np.cumsum(area)
    if not len(ends) or ends[-1] <= 0:
        return np.zeros(0, np.int64), np.zeros((0, 3))
    k = np.arange(count)
    owner = np.searchsorted(ends, (k + 0.5) / count * ends[-1]).clip(0, len(ends) - 1)
    return owner.astype(np.int64), in_triangle(k)


def in_triangle(k: I64) -> F64:
    """Barycentrics of the k-th of an even spread: the R2 sequence (M. Roberts, 2018), folded into the triangle."""
    u, v = (0.5 + k * 0.7548776662466927) % 1, (0.5 + k * 0.5698402909980532) % 1
    over = u + v > 1
    u, v = np.where(over, 1 - u, u), np.where(over, 1 - v, v)
    return np.stack([1 - u - v, u, v], axis=1)
