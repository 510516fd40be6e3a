"""The bare loop that a bake is measured against: rays from an array, one a call, the filter called at every hit."""

import ctypes

import numba
import numpy as np

from inkwell_cast.core.base.array_types import I32, AnyArray
from inkwell_cast.core.base.borrowed_arrays import keeping
from inkwell_cast.core.rays import embree
from inkwell_cast.core.rays.back_face_filter import front_faces_only
from inkwell_cast.core.rays.embree import Vertices, intersect, occluded


def bare_scene(vertices: Vertices, triangles: I32, both_sides: bool = False) -> AnyArray:
    """A robust scene as a plain program would build it: (2,) uint64, the function that traces a ray, and the scene."""
    library, device = embree._library(), embree._device()
    set_filter = library.rtcSetGeometryIntersectFilterFunction
    set_filter.restype, set_filter.argtypes = None, [ctypes.c_void_p, ctypes.c_void_p]
    geometry, rows = library.rtcNewGeometry(device, 0), np.ascontiguousarray(triangles, np.int32)
    for kind, layout, array, count in ((1, 0x9003, vertices.padded, vertices.count), (0, 0x5003, rows, len(rows))):
        library.rtcSetSharedGeometryBuffer(geometry, kind, 0, layout, array.ctypes.data, 0, 12, count)
    if not both_sides:
        set_filter(geometry, front_faces_only().address)
    library.rtcCommitGeometry(geometry)
    scene = library.rtcNewScene(device)
    library.rtcSetSceneFlags(scene, 4)
    library.rtcAttachGeometry(scene, geometry)
    library.rtcCommitScene(scene)
    name = "rtcOccluded1" if both_sides else "rtcIntersect1"
    address = ctypes.cast(getattr(library, name), ctypes.c_void_p).value
    return keeping(np.array([address, scene], np.uint64), vertices, rows)


@numba.njit(nogil=True, parallel=True)
def strike(tracer, rays, out):  # type: ignore[no-untyped-def]
    """The triangle that each of rays (N, 7) strikes: start, direction, length."""
    for i in numba.prange(len(rays)):
        r = rays[i]
        out[i] = intersect((tracer[0], np.uint64(0)), tracer[1], r[0], r[1], r[2], r[3], r[4], r[5], r[6])[3]


@numba.njit(nogil=True, parallel=True)
def is_blocked(tracer, rays, out):  # type: ignore[no-untyped-def]
    """Whether anything lies in the way of each of rays (N, 6): start, direction."""
    far = np.float32(1e30)
    for i in numba.prange(len(rays)):
        r = rays[i]
        out[i] = occluded((tracer[0], np.uint64(0)), tracer[1], r[0], r[1], r[2], r[3], r[4], r[5], far) < 0
