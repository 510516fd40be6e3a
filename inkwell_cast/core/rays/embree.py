"""The ray library, and nothing else that knows it.

Embree 4 through its C API. `Scene` builds the acceleration structure over shared buffers; `first_hit` is called from
Numba kernels with `scene.tracer` and returns plain numbers. Triangles seen from behind are passed through by a
filter, so that a ray that starts inside a thin part still reaches the front it belongs to.
"""

import ctypes
import functools
import importlib.metadata
import pathlib
import sys
import weakref
from collections.abc import Callable, Sequence
from typing import Any

import numba
import numpy as np
from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic

from ..base.array_types import F32, I32, Any_
from ..base.borrowed_arrays import keeping
from ..base.errors import Cancelled, RayLibraryMissing
from .back_face_filter import front_faces_only

_TRIANGLES, _INDEX, _VERTEX, _UINT3, _FLOAT3, _ROBUST = 0, 0, 1, 0x5003, 0x9003, 4


_RAY_FLOATS, _RAY_HIT_FLOATS = 16, 32


_INVALID = 0xFFFFFFFF


_CANCELLED = 6  # RTC_ERROR_CANCELLED


_MONITOR = ctypes.CFUNCTYPE(ctypes.c_bool, ctypes.c_void_p, ctypes.c_double)


@functools.cache
def _library() -> ctypes.CDLL:
    """Embree 4 of the `embreex` wheel, or else of the system."""
    try:
        files = importlib.metadata.files("embreex") or []
    except importlib.metadata.PackageNotFoundError:
        files = []
    carried = [
        pathlib.Path(str(f.locate())) for f in files if "embree4" in f.name or "libtbb" in f.name or "tbb12" in f.name
    ]
    carried.sort(key=lambda path: "tbb" not in path.name)  # Embree wants its TBB loaded before it
    system = {"darwin": ["libembree4.dylib"], "win32": ["embree4.dll"]}.get(sys.platform, ["libembree4.so.4"])
    tried = []
    library = None
    for path in [str(p) for p in carried] or system:
        try:
            library = ctypes.CDLL(path, mode=ctypes.RTLD_GLOBAL)
        except OSError as error:
            tried.append(f"{path} ({error})")
    if library is None or not hasattr(library, "rtcNewDevice"):
        raise RayLibraryMissing(
            "The ray library Embree 4 could not be loaded. Install it with `pip install embreex`, or install "
            f"Embree 4 for the whole system. Tried: {'; '.join(tried) or 'nothing found'}"
        )
    pointer, unsigned, size = ctypes.c_void_p, ctypes.c_uint, ctypes.c_size_t
    for name, result, arguments in [
        ("rtcNewDevice", pointer, [ctypes.c_char_p]),
        ("rtcNewScene", pointer, [pointer]),
        ("rtcSetSceneFlags", None, [pointer, unsigned]),
        ("rtcNewGeometry", pointer, [pointer, unsigned]),
        ("rtcSetSharedGeometryBuffer", None, [pointer, unsigned, unsigned, unsigned, pointer, size, size, size]),
        ("rtcSetGeometryIntersectFilterFunction", None, [pointer, pointer]),
        ("rtcCommitGeometry", None, [pointer]),
        ("rtcAttachGeometry", unsigned, [pointer, pointer]),
        ("rtcReleaseGeometry", None, [pointer]),
        ("rtcCommitScene", None, [pointer]),
        ("rtcReleaseScene", None, [pointer]),
        ("rtcGetDeviceError", unsigned, [pointer]),
        ("rtcSetSceneProgressMonitorFunction", None, [pointer, _MONITOR, pointer]),
    ]:
        function = getattr(library, name)
        function.restype, function.argtypes = result, arguments
    return library


@functools.cache
def _device() -> int:
    device = _library().rtcNewDevice(None)
    if not device:
        raise RayLibraryMissing("The ray library was found but could not start. Reinstall it: `pip install embreex`.")
    return int(device)


class Vertices:
    """Positions (V, 3) float32 as the library wants them, shared by several scenes."""

    def __init__(self, positions: F32) -> None:
        self.count = len(positions)
        self.padded = np.empty(positions.size + 4, np.float32)  # Embree reads 16 bytes past the last vertex
        self.padded[: positions.size] = positions.reshape(-1)
        self.padded[positions.size :] = 0


class Scene:
    """Triangles ready for rays.

    triangles (T, 3) int32 over `vertices`. Rays strike front faces, or both sides. Kernels get it by `tracers_of` and
    `blockers_of`. Building asks `cancelled()` and raises Cancelled; it raises MemoryError where there is no room.
    """

    def __init__(
        self, vertices: Vertices, triangles: I32, both_sides: bool = False,
        cancelled: Callable[[], bool] = lambda: False,
    ) -> None:  # fmt: skip
        library, device = _library(), _device()
        self.vertices = vertices
        self._triangles = np.ascontiguousarray(triangles, np.int32)
        geometry = library.rtcNewGeometry(device, _TRIANGLES)
        for kind, layout, array, rows in (
            (_VERTEX, _FLOAT3, vertices.padded, vertices.count),
            (_INDEX, _UINT3, self._triangles, len(triangles)),
        ):
            library.rtcSetSharedGeometryBuffer(geometry, kind, 0, layout, array.ctypes.data, 0, 12, rows)
        if not both_sides:
            library.rtcSetGeometryIntersectFilterFunction(geometry, front_faces_only.address)
        library.rtcCommitGeometry(geometry)
        scene = library.rtcNewScene(device)
        weakref.finalize(self, library.rtcReleaseScene, scene)
        library.rtcSetSceneFlags(scene, _ROBUST)
        library.rtcAttachGeometry(scene, geometry)
        library.rtcReleaseGeometry(geometry)
        monitor = _MONITOR(lambda _, share: not cancelled())
        library.rtcSetSceneProgressMonitorFunction(scene, monitor, None)
        library.rtcCommitScene(scene)
        library.rtcSetSceneProgressMonitorFunction(scene, _MONITOR(), None)
        error = library.rtcGetDeviceError(device)
        if error == _CANCELLED:
            raise Cancelled
        if error:
            raise MemoryError(
                f"The ray library could not build a scene of {len(triangles):,} triangles (code {error})."
            )
        self._handle = scene


def tracers_of(scenes: Sequence[Scene]) -> Any_:
    """What kernels hand to `first_hit`, a row a scene, (S, 2) uint64. The array keeps the scenes alive."""
    return _handles(scenes, "rtcIntersect1")


def blockers_of(scenes: Sequence[Scene]) -> Any_:
    """The same for `blocked`."""
    return _handles(scenes, "rtcOccluded1")


def as_packet_tracers(tracers: Any_) -> Any_:
    """Tracers (S, 2) as `packet.trace` wants them."""
    rows = tracers.copy()
    rows[:, 0] = _address_of("rtcIntersect16")
    return keeping(rows, tracers)


def _address_of(function: str) -> int:
    return int(ctypes.cast(getattr(_library(), function), ctypes.c_void_p).value or 0)


def _handles(scenes: Sequence[Scene], function: str) -> Any_:
    address = _address_of(function) if scenes else 0
    rows = np.array([[address, scene._handle] for scene in scenes], np.uint64).reshape(-1, 2)
    return keeping(rows, *scenes)


def _call(builder: Any, arguments: Any, size: int, whole: dict[int, int]) -> Any:
    """Call a function of the library on a ray record of `size` numbers on the stack; gives a reader of its fields."""
    f32, i32, byte = ir.FloatType(), ir.IntType(32), ir.IntType(8).as_pointer()
    record = cgutils.alloca_once(builder, ir.ArrayType(i32, size))
    record.align = 64

    def field(index: int, kind: Any = f32) -> Any:
        place = builder.gep(record, [ir.Constant(i32, 0), ir.Constant(i32, index)])
        return builder.bitcast(place, kind.as_pointer())

    function_address, scene_address, *ray = arguments
    zero = ir.Constant(f32, 0.0)
    floats = {0: ray[0], 1: ray[1], 2: ray[2], 3: zero, 4: ray[3], 5: ray[4], 6: ray[5], 7: zero, 8: ray[6]}
    for index, value in floats.items():
        builder.store(value, field(index))
    for index, number in whole.items():
        builder.store(ir.Constant(i32, number), field(index, i32))
    kind = ir.FunctionType(ir.VoidType(), [byte, byte, byte])
    function = builder.inttoptr(function_address, kind.as_pointer())
    null = ir.Constant(byte, None)
    builder.call(function, [builder.inttoptr(scene_address, byte), builder.bitcast(record, byte), null])
    return lambda index, kind=f32: builder.load(field(index, kind))


@intrinsic  # type: ignore[untyped-decorator]
def _intersect(context, address, scene, ox, oy, oz, dx, dy, dz, far):  # type: ignore[no-untyped-def]
    """One rtcIntersect1; gives (t, u, v, triangle)."""
    result = types.Tuple((types.float32, types.float32, types.float32, types.int32))
    signature = result(types.uint64, types.uint64, *([types.float32] * 7))

    def build(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        whole = {9: _INVALID, 10: 0, 11: 0, 17: _INVALID, 18: _INVALID, 19: _INVALID}
        read = _call(builder, arguments, _RAY_HIT_FLOATS, whole)
        values = [read(8), read(15), read(16), read(17, ir.IntType(32))]
        return context.make_tuple(builder, signature.return_type, values)

    return signature, build


@intrinsic  # type: ignore[untyped-decorator]
def _occluded(context, address, scene, ox, oy, oz, dx, dy, dz, far):  # type: ignore[no-untyped-def]
    """One rtcOccluded1; gives its t, negative where something lies in the way."""
    signature = types.float32(types.uint64, types.uint64, *([types.float32] * 7))

    def build(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        return _call(builder, arguments, _RAY_FLOATS, {9: _INVALID, 10: 0, 11: 0})(8)

    return signature, build


@numba.njit(cache=True, nogil=True)
def first_hit(tracers, scene, ox, oy, oz, dx, dy, dz, length):  # type: ignore[no-untyped-def]
    """First front face along a ray of unit direction: (t, u, v, triangle); triangle is -1 where nothing is struck.

    `tracers (S, 2)` are those of some scenes, `scene` which of them the ray sees; the triangle counts within it.

    The point struck is (1 - u - v) a + u b + v c of the triangle's corners a, b, c.
    """
    f = np.float32
    return _intersect(tracers[scene, 0], tracers[scene, 1], f(ox), f(oy), f(oz), f(dx), f(dy), f(dz), f(length))


@numba.njit(cache=True, nogil=True)
def hit_along(function, scene, ox, oy, oz, dx, dy, dz, length):  # type: ignore[no-untyped-def]
    """The same for the two numbers of one tracer."""
    f, u = np.float32, np.uint64
    return _intersect(u(function), u(scene), f(ox), f(oy), f(oz), f(dx), f(dy), f(dz), f(length))


@numba.njit(cache=True, nogil=True)
def blocked(function, scene, ox, oy, oz, dx, dy, dz, length):  # type: ignore[no-untyped-def]
    """Whether anything, from either side, lies in the way of a ray; the two numbers are those of one `blocker`."""
    f, u = np.float32, np.uint64
    return _occluded(u(function), u(scene), f(ox), f(oy), f(oz), f(dx), f(dy), f(dz), f(length)) < 0
