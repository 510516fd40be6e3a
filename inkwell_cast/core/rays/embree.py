"""The ray library, and nothing else that knows it.

Embree 4 through its C API. `Scene` builds the acceleration structure over shared buffers; `hit_along` is called from
Numba kernels with the rows of `tracers_of` and returns plain numbers. Triangles seen from behind are passed through,
so that a ray that starts inside a thin part still reaches the front it belongs to: a ray is traced without any filter,
and once more with one only where it struck such a triangle first, as calling a filter at each hit costs more.
"""

import ctypes
import functools
import importlib.metadata
import pathlib
import sys
import threading
import weakref
from collections.abc import Sequence
from typing import Any

import numpy as np

from ..base.array_types import F32, I32, AnyArray
from ..base.borrowed_arrays import block, keeping
from ..base.errors import Cancelled, RayLibraryMissing
from ..base.kernel_types import Hit, Narrow
from ..base.kernels import intrinsic, kernel
from ..base.on_demand import library
from ..base.progress import Cancel, ShareDone
from ..base.threads import LOOK_SECONDS
from .back_face_filter import front_faces_only

ir = library("llvmlite.ir")
types = library("numba.core.types")
cgutils = library("numba.core.cgutils")
_TRIANGLES, _INDEX, _VERTEX, _UINT3, _FLOAT3 = 0, 0, 1, 0x5003, 0x9003
_COMPACT, _ROBUST, _FILTER_IN_ARGUMENTS = 1 << 1, 1 << 2, 1 << 3  # of a scene
_LOW_QUALITY, _MEDIUM_QUALITY = 0, 1  # of its building
_INVOKE_FILTER, _ALL_FEATURES = 1 << 1, 0xFFFFFFFF  # of a query

# What kernels find at the address that comes with a scene: functions of the library, and the arguments of a query that
# passes triangles seen from behind, 0 for scenes that are struck from both sides.
CALLS, INTERSECT, OCCLUDED, INTERSECT_16, OCCLUDED_16, FRONT_ONLY = 5, 0, 1, 2, 3, 4

_RAY_FLOATS, _RAY_HIT_FLOATS = 16, 32


_INVALID = 0xFFFFFFFF


TOLD_ABOVE = 500_000  # triangles: smaller scenes are there in a blink
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
        ("rtcSetSceneBuildQuality", None, [pointer, unsigned]),
        ("rtcSetGeometryBuildQuality", None, [pointer, unsigned]),
        ("rtcNewGeometry", pointer, [pointer, unsigned]),
        ("rtcSetSharedGeometryBuffer", None, [pointer, unsigned, unsigned, unsigned, pointer, size, size, size]),
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

    triangles (T, 3) int32 over `vertices`. Rays strike front faces, or both sides; none slips through between two
    triangles, unless `watertight` is given up for speed. `quick` it is built in a third of the time and takes less
    memory, and rays take a third longer. Kernels get it by `tracers_of`. Building asks `cancelled()`
    from threads of the library and raises Cancelled; `tell(share)` hears from the caller's how much is built. It raises
    MemoryError where there is no room.
    """

    def __init__(
        self,
        vertices: Vertices,
        triangles: I32,
        both_sides: bool = False,
        cancelled: Cancel = lambda: False,
        watertight: bool = True,
        tell: ShareDone = lambda share: None,
        quick: bool = False,
    ) -> None:
        library, device = _library(), _device()
        self.vertices, self.both_sides = vertices, both_sides
        self._triangles = np.ascontiguousarray(triangles, np.int32)
        geometry = library.rtcNewGeometry(device, _TRIANGLES)
        for kind, layout, array, rows in (
            (_VERTEX, _FLOAT3, vertices.padded, vertices.count),
            (_INDEX, _UINT3, self._triangles, len(triangles)),
        ):
            library.rtcSetSharedGeometryBuffer(geometry, kind, 0, layout, array.ctypes.data, 0, 12, rows)
        quality = _LOW_QUALITY if quick else _MEDIUM_QUALITY
        library.rtcSetGeometryBuildQuality(geometry, quality)  # the scene of a quick one is built of these
        library.rtcCommitGeometry(geometry)
        scene = library.rtcNewScene(device)
        weakref.finalize(self, library.rtcReleaseScene, scene)
        flags = _ROBUST * watertight + _COMPACT * quick
        library.rtcSetSceneFlags(scene, flags + (0 if both_sides else _FILTER_IN_ARGUMENTS))
        library.rtcSetSceneBuildQuality(scene, quality)
        library.rtcAttachGeometry(scene, geometry)
        library.rtcReleaseGeometry(geometry)
        error = _built(library, device, scene, cancelled, tell, len(triangles) > TOLD_ABOVE)
        if error == _CANCELLED:
            raise Cancelled
        if error:
            raise MemoryError(
                f"The ray library could not build a scene of {len(triangles):,} triangles (code {error})."
            )
        self._handle = scene


def _built(library: ctypes.CDLL, device: int, scene: int, cancelled: Cancel, tell: ShareDone, large: bool) -> int:
    """Build a scene, a large one in a thread of its own, as only this one may tell; gives the error, 0 for none."""
    done, most, errors, given_up, raised = 0.0, 0.0, list[int](), False, list[BaseException]()

    def look(_: object, share: float) -> bool:
        nonlocal done
        try:
            done = max(done, share)  # threads of the library tell in any order, and at once
            return not (given_up or cancelled())
        except BaseException as fault:  # such as Ctrl-C: what is raised under a call of the library would be lost
            raised.append(fault)
            return False

    def build() -> None:
        library.rtcCommitScene(scene)
        errors.append(library.rtcGetDeviceError(device))  # the library keeps one for each thread

    monitor = _MONITOR(look)
    library.rtcSetSceneProgressMonitorFunction(scene, monitor, None)
    try:
        if not large:
            build()
        else:
            builder = threading.Thread(target=build, name="scene")
            builder.start()
            try:
                while builder.is_alive():
                    builder.join(LOOK_SECONDS)
                    most = max(most, done)  # here alone: of two threads that tell at once the later may say less
                    tell(most)
            finally:
                given_up = True
                builder.join()
    finally:
        library.rtcSetSceneProgressMonitorFunction(scene, _MONITOR(), None)
    if raised:
        raise raised[0]
    return errors[0]


def tracers_of(scenes: Sequence[Scene], both_sides: bool = False) -> AnyArray:
    """What kernels hand to `hit_along` and the like, a row a scene, (S, 2) uint64. The array keeps the scenes alive.

    With both_sides those that are built for front faces are struck from either, too.
    """
    rows = [[_calls(both_sides or scene.both_sides).ctypes.data, scene._handle] for scene in scenes]
    return keeping(np.array(rows, np.uint64).reshape(-1, 2), *scenes)


@functools.cache
def _calls(both_sides: bool) -> AnyArray:
    """What lies at the first number of a tracer, see CALLS."""
    names = {
        INTERSECT: "rtcIntersect1",
        OCCLUDED: "rtcOccluded1",
        INTERSECT_16: "rtcIntersect16",
        OCCLUDED_16: "rtcOccluded16",
    }
    calls = np.zeros(CALLS, np.uint64)
    for place, name in names.items():
        calls[place] = int(ctypes.cast(getattr(_library(), name), ctypes.c_void_p).value or 0)
    if not both_sides:
        calls[FRONT_ONLY] = _front_only().ctypes.data
    return calls


@functools.cache
def _front_only() -> AnyArray:
    """RTCIntersectArguments (`rtcore_common.h`): flags, feature mask, context, filter, and two that are not needed."""
    arguments = np.zeros(8, np.uint64)
    arguments[0], arguments[2] = _INVOKE_FILTER | _ALL_FEATURES << 32, int(front_faces_only().address or 0)
    return arguments


def _call(builder: Any, arguments: Any, size: int, whole: dict[int, int]) -> Any:
    """Call a function of the library on a ray record of `size` numbers on the stack; gives a reader of its fields."""
    f32, i32, byte = ir.FloatType(), ir.IntType(32), ir.IntType(8).as_pointer()
    record = cgutils.alloca_once(builder, ir.ArrayType(i32, size))
    record.align = 64

    def field(index: int, kind: Any = f32) -> Any:
        place = builder.gep(record, [ir.Constant(i32, 0), ir.Constant(i32, index)])
        return builder.bitcast(place, kind.as_pointer())

    call, scene_address, *ray = arguments
    function_address, query_address = (builder.extract_value(call, n) for n in (0, 1))
    zero = ir.Constant(f32, 0.0)
    floats = {0: ray[0], 1: ray[1], 2: ray[2], 3: zero, 4: ray[3], 5: ray[4], 6: ray[5], 7: zero, 8: ray[6]}
    for index, value in floats.items():
        builder.store(value, field(index))
    for index, number in whole.items():
        builder.store(ir.Constant(i32, number), field(index, i32))
    kind = ir.FunctionType(ir.VoidType(), [byte, byte, byte])
    function = builder.inttoptr(function_address, kind.as_pointer())
    query = builder.inttoptr(query_address, byte)
    builder.call(function, [builder.inttoptr(scene_address, byte), builder.bitcast(record, byte), query])
    return lambda index, kind=f32: builder.load(field(index, kind))


@intrinsic
def intersect(
    context: Any, call: Any, scene: Any, ox: Any, oy: Any, oz: Any, dx: Any, dy: Any, dz: Any, far: Any
) -> Any:
    """One rtcIntersect1: (t, u, v, triangle, normal (3), not of unit length).

    call: the function's address, and that of its arguments or 0 for none, both uint64.
    """
    single = types.float32
    result = types.Tuple((single, single, single, types.int32, single, single, single))
    signature = result(types.UniTuple(types.uint64, 2), types.uint64, *([single] * 7))

    def build(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        whole = {9: _INVALID, 10: 0, 11: 0, 17: _INVALID, 18: _INVALID, 19: _INVALID}
        read = _call(builder, arguments, _RAY_HIT_FLOATS, whole)
        values = [read(8), read(15), read(16), read(17, ir.IntType(32)), read(12), read(13), read(14)]
        return context.make_tuple(builder, signature.return_type, values)

    return signature, build


@intrinsic
def occluded(
    context: Any, call: Any, scene: Any, ox: Any, oy: Any, oz: Any, dx: Any, dy: Any, dz: Any, far: Any
) -> Any:
    """One rtcOccluded1, called likewise; gives its t, negative where something lies in the way."""
    signature = types.float32(types.UniTuple(types.uint64, 2), types.uint64, *([types.float32] * 7))

    def build(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        return _call(builder, arguments, _RAY_FLOATS, {9: _INVALID, 10: 0, 11: 0})(8)

    return signature, build


@kernel
def hit_along(
    calls: int, scene: int, ox: Narrow, oy: Narrow, oz: Narrow, dx: Narrow, dy: Narrow, dz: Narrow, length: Narrow
) -> Hit:
    """First front face along a ray of unit direction: (t, u, v, triangle); triangle is -1 where nothing is struck.

    `calls` and `scene` are the two numbers of a tracer, the triangle counts within its scene. In a scene of both sides
    it is the first face of either. The point struck is (1 - u - v) a + u b + v c of its corners.
    """
    f, u = np.float32, np.uint64
    ox, oy, oz, dx, dy, dz, far = f(ox), f(oy), f(oz), f(dx), f(dy), f(dz), f(length)
    known, whole = block(calls, CALLS, np.uint64), u(scene)
    t, b1, b2, hit, gx, gy, gz = intersect((known[INTERSECT], u(0)), whole, ox, oy, oz, dx, dy, dz, far)
    if hit >= 0 and known[FRONT_ONLY] and gx * dx + gy * dy + gz * dz >= 0:
        t, b1, b2, hit, _, _, _ = intersect((known[INTERSECT], known[FRONT_ONLY]), whole, ox, oy, oz, dx, dy, dz, far)
    return t, b1, b2, hit


@kernel
def blocked(
    calls: int, scene: int, ox: float, oy: float, oz: float, dx: float, dy: float, dz: float, length: float
) -> bool:
    """Whether anything, from either side, lies in the way of a ray; the two numbers are those of one tracer."""
    f, u = np.float32, np.uint64
    known = block(calls, CALLS, np.uint64)
    return occluded((known[OCCLUDED], u(0)), u(scene), f(ox), f(oy), f(oz), f(dx), f(dy), f(dz), f(length)) < 0
