"""Points of one cell of a grid share a number."""

import numpy as np

from ..base.array_types import F32, F64, I32, I64
from ..base.kernel_types import Whole
from ..base.kernels import kernel
from ..base.progress import Cancel
from ..base.threads import in_batches

EMPTY = -1
NO_NORMALS = np.zeros((0, 3), np.float32)


def numbered_cells(
    points: F32, cell: float, normals: F32 = NO_NORMALS, cancelled: Cancel = lambda: False
) -> tuple[I32, I32]:
    """The number of each point's cell (V,), counted in the order in which they come, and the first point of each (P,).

    Cells are so wide, scene units, at least a millionth of the points' box. With normals (V, 3) those of one cell that
    look along different axes are kept apart. Raises Cancelled.
    """
    low = np.array([points[:, k].min() for k in range(3)], np.float64)
    keys = np.empty(len(points), np.int64)
    in_batches(len(points), lambda i, j: _keys(i, j, points, normals, low, cell, keys), cancelled=cancelled)
    of, first = _numbered(keys)
    return of, first


@kernel
def _keys(first: int, last: int, points: F32, normals: F32, low: F64, cell: float, keys: I64) -> None:
    """The cell of each point and which way it looks, as one number (V,)."""
    for v in range(first, last):
        key, side = np.int64(0), 0
        for k in range(3):
            key = key << 20 | np.int64((points[v, k] - low[k]) / cell)
        if len(normals):
            axis = 0
            for k in range(1, 3):
                if abs(normals[v, k]) > abs(normals[v, axis]):
                    axis = k
            side = 2 * axis + (normals[v, axis] > 0)
        keys[v] = (key << 3 | side) & np.int64(0x7FFFFFFFFFFFFFFF)


@kernel
def _numbered(keys: I64) -> tuple[I32, I32]:
    """The number of each key (V,), and where each is met first (P,)."""
    known, numbers = _table(1024)
    of, first, count = np.empty(len(keys), np.int32), np.empty(1024, np.int32), 0
    for v in range(len(keys)):
        if v > 0 and keys[v] == keys[v - 1]:
            of[v] = of[v - 1]
            continue
        place = _slot(known, keys[v])
        if known[place] == EMPTY:
            if 3 * count > len(known):
                known, numbers = _grown(known, numbers)
                place = _slot(known, keys[v])
            if count == len(first):
                first = np.concatenate((first, first))
            known[place], numbers[place], first[count] = keys[v], count, v
            count += 1
        of[v] = numbers[place]
    return of, first[:count].copy()


@kernel(inline="always")
def _slot(keys: I64, key: int) -> Whole:
    """Where a key stands in a table of a size that is a power of two, or is to stand."""
    mixed = np.uint64(key) * np.uint64(0x9E3779B97F4A7C15)
    place = np.int64((mixed ^ (mixed >> np.uint64(29))) & np.uint64(len(keys) - 1))
    while keys[place] != EMPTY and keys[place] != key:
        place = (place + 1) & (len(keys) - 1)
    return place


@kernel
def _table(size: int) -> tuple[I64, I32]:
    return np.full(size, EMPTY, np.int64), np.empty(size, np.int32)


@kernel
def _grown(known: I64, numbers: I32) -> tuple[I64, I32]:
    """A table of cells with what another holds, and more room."""
    larger, their = _table(4 * len(known))
    for place in range(len(known)):
        if known[place] != EMPTY:
            new = _slot(larger, known[place])
            larger[new], their[new] = known[place], numbers[place]
    return larger, their
