"""Where the low's own rays cannot serve: they strike nothing, or start behind another surface of their pair."""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, F64, I64, U64, Bool
from ..base.kernels import kernel
from ..base.progress import Cancel
from ..base.records import Record, view
from ..base.threads import in_batches
from ..mesh.mesh import corner_positions
from ..mesh.normals import face_normals
from ..mesh.surface_samples import few_over
from ..piece.piece import Assembly
from ..piece.sculpt import Sculpt
from ..rays.embree import hit_along
from ..rays.ray import make_ray
from .cage import Cage, rays_of
from .contours import Contours, contours
from .shortfalls import APART, LACKS, Shortfall, shortfalls_of

TRIED = 40_000  # rays


@dataclass(frozen=True, slots=True)
class Gaps:
    """Of the low's surface, the shares (0 to 1) whose rays strike nothing, or start behind another surface.

    rim are lines on the low around where either is so; `places` group it.
    """

    missed: float
    behind: float
    rim: Contours
    places: list[Shortfall]


def gaps_of(assembly: Assembly, sculpt: Sculpt, cage: Cage, within: Bool, cancelled: Cancel = lambda: False) -> Gaps:
    """Try rays spread evenly over the triangles of the low that `within (T,)` marks.

    A ray starts behind another surface where the way from the low out to its start enters some body of the pair.
    """
    rows = np.flatnonzero(within)
    points = corner_positions(assembly.low)[rows].astype(np.float64)
    owner, b = few_over(points, TRIED)
    if not len(owner):
        return Gaps(0.0, 0.0, Contours(), [])
    triangle, rays = rows[owner], rays_of(assembly, cage)
    missed, depth = np.zeros(len(owner), np.bool_), np.zeros(len(owner), np.float32)

    def work(i: int, j: int) -> None:
        _try(triangle[i:j], b[i:j], missed[i:j], depth[i:j], rays.record, sculpt.tracers)

    in_batches(len(owner), work, cancelled=cancelled)
    places: F64 = np.einsum("nk,nkc->nc", b, points[owner])
    lost = missed | (depth > 0)
    lack = np.where(depth > 0, LACKS.index("behind"), LACKS.index("missed")).astype(np.int32)
    lost_at = places[lost].astype(np.float32)
    apart = max(APART * assembly.low.diagonal, 3 * _spacing(points, len(owner)))
    clusters = shortfalls_of(
        lost_at,
        depth[lost],
        lack[lost],
        assembly.low.objects[triangle[lost]],
        assembly.keys,
        apart,
        face_normals(assembly.low.positions, assembly.low.triangles[triangle[lost]]),
    )
    beyond = np.where(lost, np.float32(1), np.float32(-1))
    rim = contours(assembly.low, triangle.astype(np.int32), b.astype(np.float32), beyond, 1)
    return Gaps(float(missed.mean()), float((depth > 0).mean()), rim, clusters)


def _spacing(points: F64, count: int) -> float:
    """Mean distance between `count` places spread over triangles (T, 3, 3)."""
    area = np.linalg.norm(np.cross(points[:, 1] - points[:, 0], points[:, 2] - points[:, 0]), axis=1).sum() / 2
    return float(np.sqrt(area / count))


@kernel
def _try(triangle: I64, b: F64, missed: Bool, depth: F32, rays: Record, tracers: U64) -> None:
    """Whether each ray strikes nothing, and how far its start lies beyond the first surface out from the low."""
    pair = view(rays, "pair")
    for i in range(len(triangle)):
        t = triangle[i]
        ray = make_ray(t, b[i, 0], b[i, 1], b[i, 2], rays)
        ox, oy, oz, dx, dy, dz, out, far = ray
        function, scene = tracers[pair[t], 0], tracers[pair[t], 1]
        missed[i] = hit_along(function, scene, ox, oy, oz, dx, dy, dz, far)[3] < 0
        x, y, z = ox + dx * out, oy + dy * out, oz + dz * out
        length, _, _, other = hit_along(function, scene, x, y, z, -dx, -dy, -dz, out)
        if other >= 0:
            depth[i] = out - length
