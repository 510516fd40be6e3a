"""Adaptive sampling: which samples of a texel are traced first, and whether the rest would change anything."""

import numba
import numpy as np

from ..base.array_types import I64
from ..uv.rasterise import barycentrics

AGREE = float(np.cos(np.radians(7.5)))  # normals that lean apart by more are worth more samples
STEEP = 3.0  # so are heights that differ by more than this many times the way between two samples
FIRST = {
    16: ((1, 0), (3, 1), (0, 2), (2, 3)),
    64: ((3, 1), (6, 3), (1, 4), (4, 6)),
}  # (column, row) of a texel's samples


def sample_order(side: int, adaptive: bool) -> tuple[I64, int]:
    """The samples of a texel (S, 2), column and row, as they are traced in turn, and after how many to look."""
    every = [(column, row) for row in range(side) for column in range(side)]
    if not adaptive or side * side not in FIRST:
        return np.array(every, np.int64), side * side
    first = FIRST[side * side]
    return np.array([*first, *(place for place in every if place not in first)], np.int64), len(first)


@numba.njit(cache=True, nogil=True)
def apart(owner, left, top, x, y, side, shift, corners, points, order):  # type: ignore[no-untyped-def]
    """How far apart the first two samples of a texel lie on the low."""
    half, square = np.int64(1) << (shift - 1), 0.0
    ax = ay = az = 0.0
    for s in range(2):
        i, j = order[s, 0], order[s, 1]
        t = owner[top + j, left + i]
        b0, b1, b2 = barycentrics(corners, t, ((x * side + i) << shift) + half, ((y * side + j) << shift) + half)
        px = b0 * points[t, 0, 0] + b1 * points[t, 1, 0] + b2 * points[t, 2, 0]
        py = b0 * points[t, 0, 1] + b1 * points[t, 1, 1] + b2 * points[t, 2, 1]
        pz = b0 * points[t, 0, 2] + b1 * points[t, 1, 2] + b2 * points[t, 2, 2]
        square = (px - ax) ** 2 + (py - ay) ** 2 + (pz - az) ** 2
        ax, ay, az = px, py, pz
    return np.sqrt(square)
