"""Whether the nearest surface would serve at a flaw: not where it is buried in what stands there."""

import numpy as np

from ..base.array_types import F64, I32, I64, U64, Bool
from ..base.kernels import kernel
from ..base.records import Record, view
from ..cast.occluders import occluders_on
from ..mesh.normals import face_normal
from ..rays.buried import is_buried
from ..rays.embree import hit_along
from ..rays.ray import make_ray
from ..settings.mends import Mend
from . import offered_mends
from .flaw import Spot
from .texel_rows import TexelRows

MOST = 400  # rays that are tried
STEPS = 8  # surfaces along one
TOO_MANY = 0.2  # of those rays


def nearest_surface(seen: TexelRows, spot: Spot, at: I64) -> list[Mend]:
    """The mend that takes the nearest surface at some rows; none where that would take away what a viewer sees.

    A bolt that runs through a plate stands over a part of the plate that nobody sees.
    """
    rows, context = at[:: -(-len(at) // MOST) or 1], seen.context
    hidden = np.zeros(len(rows), np.bool_)
    tracers, far = occluders_on(context, "all").tracers, context.assembly.low.diagonal
    _nearest_is_buried(
        seen.triangle[rows], seen.b[rows], context.rays.record, context.sculpt.record, tracers, far, hidden
    )
    return [] if hidden.mean() > TOO_MANY else [offered_mends.nearest(spot)]


@kernel
def _nearest_is_buried(
    triangle: I32, b: F64, rays: Record, sculpt: Record, tracers: U64, far: float, hidden: Bool
) -> None:
    """Whether, of the fronts that each ray passes within its reach, the one nearest to the low is buried."""
    pair, firsts = view(rays, "pair"), view(sculpt, "first")
    positions, triangles = view(sculpt, "positions"), view(sculpt, "triangles")
    for i in range(len(triangle)):
        p = pair[triangle[i]]
        ox, oy, oz, dx, dy, dz, out, length = make_ray(triangle[i], b[i, 0], b[i, 1], b[i, 2], rays)
        gone, least, nearest, nx, ny, nz = 0.0, np.inf, -1.0, 0.0, 0.0, 0.0
        for _ in range(STEPS):
            x, y, z = ox + gone * dx, oy + gone * dy, oz + gone * dz
            step, _, _, hit = hit_along(tracers[p, 0], tracers[p, 1], x, y, z, dx, dy, dz, length - gone)
            if hit < 0:
                break
            gone += np.float64(step)
            row = triangles[firsts[p] + hit]
            gx, gy, gz = face_normal(positions[row[0]], positions[row[1]], positions[row[2]])
            if gx * dx + gy * dy + gz * dz < 0 and abs(gone - out) < least:
                least, nearest, nx, ny, nz = abs(gone - out), gone, gx, gy, gz
            gone += 1e-6 * far
        if nearest >= 0:
            place = ox + nearest * dx, oy + nearest * dy, oz + nearest * dz
            hidden[i] = is_buried(tracers[p, 0], tracers[p, 1], firsts[p], place, (nx, ny, nz), far, sculpt)
