"""Adaptive sampling: which samples of a texel are traced first, and whether the rest would change anything."""

import numpy as np

from ..base.array_types import I32, I64
from ..base.kernels import kernel
from ..base.records import Record
from ..rays.ray import point_on_low
from ..uv.rasterise import sample_barycentrics

AGREE = float(np.cos(np.radians(15)))  # normals that lean apart by more are worth more samples
BENT = 0.04  # so are those whose second difference is larger: what bends evenly has the mean that four samples have
STEEP = 3.0  # so are heights that differ by more than this many times the way between two samples
# (column, row) of a texel's samples: the first and last of the four lie across from each other, so do the others
FIRST = {
    16: ((1, 0), (3, 1), (0, 2), (2, 3)),
    64: ((3, 1), (6, 3), (1, 4), (4, 6)),
}


def sample_order(side: int, adaptive: bool) -> tuple[I64, int]:
    """The samples of a texel (S, 2), column and row, as they are traced in turn, and after how many to look."""
    every = [(column, row) for row in range(side) for column in range(side)]
    every.sort(key=lambda place: (place[1] // 4, place[0] // 4))  # sixteen that follow one another lie together
    if not adaptive or side * side not in FIRST:
        return np.array(every, np.int64), side * side
    first = FIRST[side * side]
    return np.array([*first, *(place for place in every if place not in first)], np.int64), len(first)


@kernel
def all_on_low(owner: I32, left: int, top: int, side: int) -> bool:
    """Whether every sample of a texel lies on a triangle; owner (h, w) int32 names those of a tile's samples."""
    for j in range(side):
        for i in range(side):
            if owner[top + j, left + i] < 0:
                return False
    return True


@kernel
def distance_apart(where: tuple[int, int, int, int], owner: I32, order: I64, grid: Record, rays: Record) -> float:
    """How far apart the first two samples of a texel lie on the low, scene units.

    where: column and row of the texel, and of its first sample in `owner`. grid and rays are records.
    """
    x, y, left, top = where
    square = 0.0
    ax = ay = az = 0.0
    for s in range(2):
        i, j = order[s, 0], order[s, 1]
        t = owner[top + j, left + i]
        b0, b1, b2 = sample_barycentrics(t, x, y, i, j, grid)
        px, py, pz = point_on_low(t, b0, b1, b2, rays)
        square = (px - ax) ** 2 + (py - ay) ** 2 + (pz - az) ** 2
        ax, ay, az = px, py, pz
    return np.sqrt(square)
