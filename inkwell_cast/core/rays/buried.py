"""Buried surface: inside another body of the sculpt, so that nobody sees it, and no judge counts it."""

import numpy as np

from ..base.array_types import F32, U64, Bool
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.progress import Cancel
from ..base.records import Record, view
from ..base.threads import in_batches
from ..mesh.normals import face_normal
from .embree import hit_along

CLEAR = 1e-4  # of the reach looked through: the surface itself is nothing that hides it
WAYS = np.linalg.qr(np.array([[3.0, 1.0, 2.0], [-1.0, 4.0, 1.0], [1.0, -2.0, 5.0]]))[0]  # no axis along anything
FIRST_X, FIRST_Y, FIRST_Z = (tuple(float(value) for value in WAYS[:, k]) for k in range(3))


@kernel
def is_buried(calls: int, scene: int, first: int, place: Vector, normal: Vector, far: float, sculpt: Record) -> bool:
    """Whether a place sees nothing but backs of the sculpt along its normal and six other ways, up to `far`.

    `calls` and `scene` are of a tracer that strikes both sides, whose triangles begin at `first` in the record sculpt;
    lengths are scene units, the normal may be 0 where it is not known.
    """
    known = normal[0] != 0 or normal[1] != 0 or normal[2] != 0
    if known and not _ends_at_a_back(calls, scene, first, place, normal, far, sculpt):
        return False
    for k in range(6):
        sign = 1.0 if k < 3 else -1.0
        way = sign * FIRST_X[k % 3], sign * FIRST_Y[k % 3], sign * FIRST_Z[k % 3]
        if not _ends_at_a_back(calls, scene, first, place, way, far, sculpt):
            return False
    return True


@kernel
def _ends_at_a_back(calls: int, scene: int, first: int, at: Vector, way: Vector, far: float, sculpt: Record) -> bool:
    """Whether the first surface of the sculpt along a ray, both sides counting, is struck from behind."""
    positions, triangles = view(sculpt, "positions"), view(sculpt, "triangles")
    dx, dy, dz = way
    x, y, z = at[0] + CLEAR * far * dx, at[1] + CLEAR * far * dy, at[2] + CLEAR * far * dz
    _, _, _, hit = hit_along(calls, scene, x, y, z, dx, dy, dz, far)
    if hit < 0:
        return False
    row = triangles[first + hit]
    gx, gy, gz = face_normal(positions[row[0]], positions[row[1]], positions[row[2]])
    return gx * dx + gy * dy + gz * dz > 0


@kernel
def buried_places(places: F32, normals: F32, tracers: U64, far: float, sculpt: Record, buried: Bool) -> None:
    """Which places (N, 3) of the sculpt are buried in it; tracers are a row for all of it and both sides.

    normals (N, 3) are those there, 0 where they are not known.
    """
    for i in range(len(places)):
        place = np.float64(places[i, 0]), np.float64(places[i, 1]), np.float64(places[i, 2])
        normal = np.float64(normals[i, 0]), np.float64(normals[i, 1]), np.float64(normals[i, 2])
        buried[i] = is_buried(tracers[0], tracers[1], 0, place, normal, far, sculpt)


def buried_among(places: F32, normals: F32 | None, tracers: U64, far: float, sculpt: Record, cancelled: Cancel) -> Bool:
    """Which of some places (N, 3) are buried, as `buried_places` says. Raises Cancelled."""
    buried, known = np.zeros(len(places), np.bool_), np.zeros_like(places) if normals is None else normals

    def work(i: int, j: int) -> None:
        buried_places(places[i:j], known[i:j], tracers, far, sculpt, buried[i:j])

    in_batches(len(buried), work, cancelled=cancelled)
    return buried
