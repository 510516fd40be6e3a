"""Places spread evenly over a surface."""

import numpy as np

from .arrays import F64, I64


def spread_over(points: F64, rows: I64, count: int) -> tuple[F64, I64, F64]:
    """About `count` places over some triangles of points (T, 3, 3) by their area, at least one on each.

    Gives places (N, 3), the triangle of each (N,) and its barycentrics (N, 3).
    """
    p = points[rows]
    area = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    each = np.ceil(count * area / max(float(area.sum()), 1e-300)).astype(np.int64) + 1
    owner = np.repeat(np.arange(len(rows)), each)
    k = np.arange(len(owner)) - np.repeat(np.cumsum(each) - each, each)
    # the R2 sequence (M. Roberts, 2018): an even spread over the square, folded into the triangle
    u, v = (0.5 + k * 0.7548776662466927) % 1, (0.5 + k * 0.5698402909980532) % 1
    over = u + v > 1
    u, v = np.where(over, 1 - u, u), np.where(over, 1 - v, v)
    b = np.stack([1 - u - v, u, v], axis=1)
    return np.einsum("nk,nkc->nc", b, p[owner]), rows[owner], b
