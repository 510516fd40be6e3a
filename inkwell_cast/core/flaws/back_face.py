"""Struck from inside: a ray meets the back of the sculpt before its front.

It began inside the sculpt or another part, or looks in through a hole.
"""

import numpy as np

from ..base.array_types import F64, I32, I64, U64
from ..base.figures import figure
from ..base.kernels import kernel
from ..base.records import Record, view
from ..cast.occluders import occluders_on
from ..mesh.normals import face_normal
from ..rays.embree import hit_along
from ..rays.modifiers.modifiers import HAS_OMISSIONS
from ..rays.modifiers.omission import left_out
from ..rays.ray import make_ray
from ..settings.mends import Mend
from . import offered_mends
from .flaw import Explanation, FlawRows, Spot
from .nearest_surface import nearest_surface
from .texel_rows import TexelRows

KEY, TITLE = "inside", "Struck from inside"


def find(seen: TexelRows) -> FlawRows:
    """Texels that struck, whose ray passes a back face on its way."""
    rows = np.flatnonzero(seen.struck > 0)
    context = seen.context
    ready, way = occluders_on(context, "all"), np.zeros(len(rows))
    _backs(
        seen.triangle[rows],
        seen.b[rows],
        context.rays.record,
        ready.tracers,
        context.sculpt.record,
        way,
    )
    back = way > 0
    rows, way = rows[back], way[back]

    def tell(region: I64) -> Explanation:
        reach, passed = float(seen.outward[rows[region]].max()), float(np.median(way[region]))

        def mends(spot: Spot) -> list[Mend]:
            at = rows[region]
            return [offered_mends.tight_pocket(seen, spot, at), *nearest_surface(seen, spot, at)]

        return Explanation(
            f"Rays start {figure(reach)} out and meet the back of a surface {figure(passed)} on: they begin inside the "
            "sculpt or another part, or look in through a hole.",
            "Shorten the outward reach here, keep the other part in a pair of its own, or close the sculpt.",
            mends,
        )

    return FlawRows(rows, tell)


@kernel
def _backs(triangle: I32, b: F64, rays: Record, tracers: U64, sculpt: Record, way: F64) -> None:
    """How far each ray goes to the first surface, where that is seen from behind; 0 where it is a front."""
    pair, flags = view(rays, "pair"), view(rays, "flags")
    firsts, objects = (
        view(sculpt, "first"),
        view(sculpt, "objects"),
    )
    positions = view(sculpt, "positions")
    triangles = view(sculpt, "triangles")
    modifiers = view(rays, "modifiers")
    for i in range(len(triangle)):
        t = triangle[i]
        ray = make_ray(t, b[i, 0], b[i, 1], b[i, 2], rays)
        ox, oy, oz, dx, dy, dz, _, far = ray
        p = pair[t]
        distance, _, _, hit = hit_along(tracers[p, 0], tracers[p, 1], ox, oy, oz, dx, dy, dz, far)
        if hit < 0:
            continue
        if flags[t] & HAS_OMISSIONS and left_out(t, ray, objects[firsts[p] + hit], modifiers):
            continue
        row = triangles[firsts[p] + hit]
        gx, gy, gz = face_normal(positions[row[0]], positions[row[1]], positions[row[2]])
        if gx * dx + gy * dy + gz * dz > 0:
            way[i] = distance
