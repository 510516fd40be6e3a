"""Passing back faces: rays go through triangles that they see from behind, so that one that starts inside a thin part
still reaches the front it belongs to.
"""

import functools
from typing import Any

import numpy as np

from ..base.borrowed_arrays import block
from ..base.kernels import callback, carray
from ..base.on_demand import library

numba = library("numba")


@functools.cache
def front_faces_only() -> Any:
    """The filter, compiled once a ray is to be traced: a process that traces none need not wait for the compiler."""
    return callback(numba.types.void(numba.types.CPointer(numba.types.int64)), _front_faces_only)


def _front_faces_only(arguments: Any) -> None:
    """Filter of Embree: refuse hits whose geometric normal looks along the ray; of one ray, or of a packet of them."""
    fields = carray(arguments, 6)  # valid, user pointer, context, rays, hits, their number
    count = np.int64(np.int32(fields[5] & 0xFFFFFFFF))
    valid, ray = block(fields[0], count, np.int32), block(fields[3], 8 * count, np.float32)
    hit = block(fields[4], 3 * count, np.float32)
    for i in range(count):
        along = (
            ray[4 * count + i] * hit[i] + ray[5 * count + i] * hit[count + i] + ray[6 * count + i] * hit[2 * count + i]
        )
        if along >= 0:
            valid[i] = 0
