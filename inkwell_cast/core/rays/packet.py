"""Packets: sixteen rays that run close to each other, traced together, which is some three times as fast as one by one.

Where one strikes a triangle from behind that rays pass through, it alone is traced again, as `hit_along` does it.

Layout and flags: RTCRayHit16 and RTCIntersectArguments of Embree 4 (`rtcore_ray.h`, `rtcore_common.h`).
"""

from typing import Any

import numpy as np

from ..base.array_types import F32, I32
from ..base.borrowed_arrays import block
from ..base.kernel_types import Hit
from ..base.kernels import intrinsic, kernel
from ..base.on_demand import library
from .embree import CALLS, FRONT_ONLY, INTERSECT_16, OCCLUDED_16, hit_along

ir = library("llvmlite.ir")
types = library("numba.core.types")
WIDTH = 16
_FIELDS = 21  # of RTCRayHit16, one of them spare
REACH = _FIELDS  # a row of our own: how far each ray is to go
ROWS = _FIELDS + 1
NEARLY_NONE = np.float32(1e-12)  # of a unit vector: near 1e-18 the library loses coherent rays, so less than this is 0
ORIGIN, _NEAR, WAY, _TIME, _FAR, _MASK, _ID, _FLAGS = 0, 3, 4, 7, 8, 9, 10, 11
_NORMAL, _U, _V, _TRIANGLE, _SHAPE = 12, 15, 16, 17, 18
COHERENT, ALL_KINDS = 1 << 16, -1  # told of a packet: its rays are alike; anything may be struck
_INVALID = -1
_LINE = 16  # words of a cache line, by which the library wants packets to be aligned


@intrinsic
def _call(context: Any, address: Any, valid: Any, scene: Any, rays: Any, arguments: Any) -> Any:
    """Call a function of the library on four addresses."""
    signature = types.void(types.uint64, types.int64, types.uint64, types.int64, types.int64)

    def build(context: Any, builder: Any, signature: Any, values: Any) -> Any:
        byte = ir.IntType(8).as_pointer()
        kind = ir.FunctionType(ir.VoidType(), [byte] * 4)
        function = builder.inttoptr(values[0], kind.as_pointer())
        builder.call(function, [builder.inttoptr(value, byte) for value in values[1:]])
        return context.get_dummy_value()

    return signature, build


@kernel
def packet() -> tuple[F32, I32, I32]:
    """Room for a packet of one thread: rows (fields, WIDTH) as float32 and as int32, and the words that go with it.

    The first WIDTH of those words are -1 for rays that count, 0 for others.
    """
    room = np.empty(_LINE * (ROWS + 3), np.float32)
    skip = (-(room.ctypes.data // 4)) % _LINE
    numbers = room[skip : skip + WIDTH * ROWS].reshape(ROWS, WIDTH)
    rest = room[skip + WIDTH * ROWS : skip + WIDTH * (ROWS + 2)].view(np.int32)
    rest[:WIDTH], rest[WIDTH:] = -1, 0  # all rays are valid
    rest[WIDTH], rest[WIDTH + 1] = COHERENT, ALL_KINDS
    return numbers, numbers.view(np.int32), rest


@kernel
def trace(calls: int, scene: int, rays: tuple[F32, I32, I32], origins: F32, way: Any, length: Any) -> None:
    """First hits of rays that run close to each other: `rays` of `packet` afterwards holds them, see `hit_of`.

    calls and scene are the numbers of a tracer; origins (3, WIDTH); way is a unit vector and length in scene units, or
    (3, WIDTH) and (WIDTH,) where each ray has its own.
    """
    numbers, _, _ = rays
    numbers[REACH] = length
    for c in range(3):
        numbers[ORIGIN + c] = origins[c]
        numbers[WAY + c] = way[c]
    strike(calls, scene, rays)


@kernel
def strike(calls: int, scene: int, rays: tuple[F32, I32, I32]) -> None:
    """First hits of the rays of a packet whose rows ORIGIN, WAY (three each) and REACH are filled already."""
    numbers, whole, rest = rays
    whole[_TRIANGLE], whole[_SHAPE], whole[_SHAPE + 1] = _INVALID, _INVALID, _INVALID
    _set_out(numbers, whole)
    known = block(calls, CALLS, np.uint64)
    _call(known[INTERSECT_16], rest.ctypes.data, np.uint64(scene), numbers.ctypes.data, rest[WIDTH:].ctypes.data)
    if known[FRONT_ONLY]:
        _pass_backs(calls, scene, numbers, whole)


@kernel
def strike_any(calls: int, scene: int, rays: tuple[F32, I32, I32]) -> None:
    """Whether anything, from either side, lies in the way of such rays, see `was_blocked`."""
    numbers, whole, rest = rays
    _set_out(numbers, whole)
    known = block(calls, CALLS, np.uint64)
    _call(known[OCCLUDED_16], rest.ctypes.data, np.uint64(scene), numbers.ctypes.data, rest[WIDTH:].ctypes.data)


@kernel
def _set_out(numbers: F32, whole: I32) -> None:
    """The rest of what the library wants to know of each ray."""
    numbers[_NEAR], numbers[_TIME], numbers[_FAR] = 0.0, 0.0, numbers[REACH]
    whole[_MASK], whole[_ID], whole[_FLAGS] = _INVALID, 0, 0
    for c in range(WAY, WAY + 3):
        for k in range(WIDTH):
            way = numbers[c, k]
            numbers[c, k] = way if abs(way) >= NEARLY_NONE else np.float32(0)


@kernel
def _pass_backs(calls: int, scene: int, numbers: F32, whole: I32) -> None:
    """Trace again what struck a triangle from behind, each ray alone."""
    ox, oy, oz = numbers[ORIGIN], numbers[ORIGIN + 1], numbers[ORIGIN + 2]
    dx, dy, dz = numbers[WAY], numbers[WAY + 1], numbers[WAY + 2]
    gx, gy, gz = numbers[_NORMAL], numbers[_NORMAL + 1], numbers[_NORMAL + 2]
    for k in range(WIDTH):
        if whole[_TRIANGLE, k] >= 0 and gx[k] * dx[k] + gy[k] * dy[k] + gz[k] * dz[k] >= 0:
            numbers[_FAR, k], numbers[_U, k], numbers[_V, k], whole[_TRIANGLE, k] = hit_along(
                calls, scene, ox[k], oy[k], oz[k], dx[k], dy[k], dz[k], numbers[REACH, k]
            )


@kernel(inline="always")
def hit_of(k: int, rays: tuple[F32, I32, I32]) -> Hit:
    """What ray k of a packet struck: (t, u, v, triangle) as of `hit_along`."""
    numbers, whole, _ = rays
    return numbers[_FAR, k], numbers[_U, k], numbers[_V, k], whole[_TRIANGLE, k]


@kernel(inline="always")
def was_blocked(k: int, rays: Any) -> bool:
    """Whether something lay in the way of ray k after `strike_any`."""
    return rays[0][_FAR, k] < 0
