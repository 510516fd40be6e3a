"""Struck from inside: a ray meets the back of the sculpt before its front.

It began inside the sculpt or another part, or looks in through a hole.
"""

import numba
import numpy as np

from ..base.array_types import I64
from ..cast.occluders import occluders_on
from ..maps.hits_of_tile import face_normal
from ..rays.embree import hit_along
from ..rays.modifiers.blocks import OMITS
from ..rays.modifiers.special import left_out
from ..rays.ray import make_ray
from ..settings.mends import Mend
from . import offered_mends
from .flaw import Found, Spot, Told, length
from .texel_rows import Seen

KEY, TITLE = "inside", "Struck from inside"
ERROR = 30.0  # degrees: how wrong such a texel looks
SHORT = 0.95  # of the reach at which rays would begin on the way out of the other surface


def find(seen: Seen) -> Found:
    """Texels that struck, whose ray passes a back face on its way."""
    rows = np.flatnonzero(seen.struck > 0)
    context = seen.context
    ready, way = occluders_on(context, "all"), np.zeros(len(rows))
    mesh = context.sculpt.mesh
    _backs(
        seen.triangle[rows], seen.b[rows], *context.rays.arrays, context.rays.pair, ready.tracers, context.sculpt.first,
        mesh.positions, mesh.triangles, mesh.objects, way,
    )  # fmt: skip
    back = way > 0
    rows, way = rows[back], way[back]

    def tell(own: I64) -> Told:
        reach, passed = float(seen.outward[rows[own]].max()), float(np.median(way[own]))
        shorter = SHORT * float((seen.outward[rows[own]] - way[own]).min())

        def mends(spot: Spot) -> list[Mend]:
            below = float(seen.inward[rows[own]].max())
            return [offered_mends.pocket(context.assembly, spot, (shorter, below))] if shorter > 0 else []

        return Told(
            f"Rays start {length(reach)} out and meet the back of a surface {length(passed)} on: they begin inside the "
            "sculpt or another part, or look in through a hole.",
            "Shorten the outward reach here, keep the other part in a pair of its own, or close the sculpt.",
            mends,
        )

    return Found(rows, np.full(len(rows), ERROR), tell)


@numba.njit(cache=True, nogil=True)
def _backs(triangle, b, points, offsets, inward, special, pair, tracers, firsts, positions, triangles, objects, way):  # type: ignore[no-untyped-def]
    """How far each ray goes to the first surface, where that is seen from behind; 0 where it is a front."""
    for i in range(len(triangle)):
        t = triangle[i]
        ox, oy, oz, dx, dy, dz, out, far = make_ray(t, b[i, 0], b[i, 1], b[i, 2], points, offsets, inward, special)
        p = pair[t]
        found, _, _, hit = hit_along(tracers[p, 0], tracers[p, 1], ox, oy, oz, dx, dy, dz, far)
        if hit < 0:
            continue
        if special[t] & OMITS and left_out(ox, oy, oz, dx, dy, dz, out, objects[firsts[p] + hit], special):
            continue
        row = triangles[firsts[p] + hit]
        gx, gy, gz = face_normal(positions[row[0]], positions[row[1]], positions[row[2]])
        if gx * dx + gy * dy + gz * dz > 0:
            way[i] = found
