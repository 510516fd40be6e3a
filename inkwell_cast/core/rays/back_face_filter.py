"""Passing back faces: rays go through triangles that they see from behind, so that one that starts inside a thin part
still reaches the front it belongs to.
"""

import numba
import numpy as np
from numba import types

from ..base.borrowed_arrays import block

_filter_signature = types.void(types.CPointer(types.int64))


@numba.cfunc(_filter_signature, cache=True)  # type: ignore[untyped-decorator]
def front_faces_only(arguments):  # type: ignore[no-untyped-def]
    """Filter of Embree: refuse a hit whose geometric normal looks along the ray."""
    fields = numba.carray(arguments, 5)  # valid, user pointer, context, ray, hit
    valid, ray = block(fields[0], 1, np.int32), block(fields[3], 8, np.float32)
    hit = block(fields[4], 3, np.float32)
    if ray[4] * hit[0] + ray[5] * hit[1] + ray[6] * hit[2] >= 0:
        valid[0] = 0
