"""Packets: sixteen rays that run close to each other, traced together, which is some three times as fast as one by one.

Layout and flags: RTCRayHit16 and RTCIntersectArguments of Embree 4 (`rtcore_ray.h`, `rtcore_common.h`).
"""

from typing import Any

import numba
import numpy as np
from llvmlite import ir
from numba import types
from numba.extending import intrinsic

WIDTH = 16
_FIELDS = 21  # of RTCRayHit16, one of them spare
_ORIGIN, _NEAR, _WAY, _TIME, _FAR, _MASK, _ID, _FLAGS = 0, 3, 4, 7, 8, 9, 10, 11
_U, _V, _TRIANGLE, _SHAPE = 15, 16, 17, 18
_COHERENT, _ALL_FEATURES = 1 << 16, -1
_INVALID = -1
_LINE = 16  # words of a cache line, by which the library wants packets to be aligned


@intrinsic  # type: ignore[untyped-decorator]
def _call(context, address, valid, scene, rays, arguments):  # type: ignore[no-untyped-def]
    """Call a function of the library on four addresses."""
    signature = types.void(types.uint64, types.int64, types.uint64, types.int64, types.int64)

    def build(context: Any, builder: Any, signature: Any, values: Any) -> Any:
        byte = ir.IntType(8).as_pointer()
        kind = ir.FunctionType(ir.VoidType(), [byte] * 4)
        function = builder.inttoptr(values[0], kind.as_pointer())
        builder.call(function, [builder.inttoptr(value, byte) for value in values[1:]])
        return context.get_dummy_value()

    return signature, build


@numba.njit(cache=True, nogil=True)
def packet():  # type: ignore[no-untyped-def]
    """Room for a packet of one thread: rows (fields, WIDTH) as float32 and as int32, and the words that go with it."""
    room = np.empty(_LINE * (_FIELDS + 3), np.float32)
    skip = (-(room.ctypes.data // 4)) % _LINE
    numbers = room[skip : skip + WIDTH * _FIELDS].reshape(_FIELDS, WIDTH)
    rest = room[skip + WIDTH * _FIELDS : skip + WIDTH * (_FIELDS + 2)].view(np.int32)
    rest[:WIDTH], rest[WIDTH:] = -1, 0  # all rays are valid
    rest[WIDTH], rest[WIDTH + 1] = _COHERENT, _ALL_FEATURES
    return numbers, numbers.view(np.int32), rest


@numba.njit(cache=True, nogil=True)
def trace(function, scene, rays, origins, way, length):  # type: ignore[no-untyped-def]
    """First hits of parallel rays: `rays` of `packet` afterwards holds them, see `hit_of`.

    function and scene are of `as_packet_tracers`; origins (3, WIDTH); way is a unit vector and length in scene units,
    or (3, WIDTH) and (WIDTH,) where each ray has its own, which must run close to the others.
    """
    numbers, whole, rest = rays
    numbers[_NEAR], numbers[_TIME], numbers[_FAR] = 0.0, 0.0, length
    whole[_MASK], whole[_ID], whole[_FLAGS] = _INVALID, 0, 0
    whole[_TRIANGLE], whole[_SHAPE], whole[_SHAPE + 1] = _INVALID, _INVALID, _INVALID
    for c in range(3):
        numbers[_ORIGIN + c] = origins[c]
        numbers[_WAY + c] = way[c]
    _call(np.uint64(function), rest.ctypes.data, np.uint64(scene), numbers.ctypes.data, rest[WIDTH:].ctypes.data)


@numba.njit(cache=True, nogil=True, inline="always")
def hit_of(k, rays):  # type: ignore[no-untyped-def]
    """What ray k of a packet struck: (t, u, v, triangle) as of `first_hit`."""
    numbers, whole, _ = rays
    return numbers[_FAR, k], numbers[_U, k], numbers[_V, k], whole[_TRIANGLE, k]
