"""Missed: rays that strike nothing, so the map has no normal of the sculpt there."""

from collections.abc import Callable

import numba
import numpy as np

from ..base.array_types import I64
from ..base.borrowed_arrays import block
from ..cast.occluders import occluders_on
from ..rays.embree import hit_along
from ..rays.ray import make_ray
from ..settings.mends import Mend
from . import offered_mends
from .flaw import Explanation, Found, Spot, length
from .texel_rows import Seen

KEY, TITLE = "missed", "Missed"
OUTSIDE = "outside", "Sculpt outside the cage"  # cause and title where only the reach falls short
BEYOND = 0.5  # of the low's diagonal: how far past the reach the sculpt is looked for
UNUSED = 1e30
ROOM = 1.05  # a mended reach goes a little farther than the sculpt


def find(seen: Seen) -> Found:
    """Texels none of whose samples struck; what is said follows from how far off the sculpt lies along their rays."""
    rows = np.flatnonzero(seen.struck == 0)
    context, beyond = seen.context, BEYOND * seen.context.assembly.low.diagonal
    above, below, turned = (np.full(len(rows), UNUSED) for _ in range(3))
    struck = np.full(len(rows), -1, np.int64)
    _farther(
        seen.triangle[rows], seen.b[rows], context.rays.record, context.sculpt.record,
        occluders_on(context, "all").tracers, beyond, above, below, turned, struck,
    )  # fmt: skip

    def pocket(outward: float, inward: float) -> Callable[[Spot], list[Mend]]:
        return lambda spot: [offered_mends.pocket(context.assembly, spot, (outward, inward))]

    def tell(chosen: I64) -> Explanation:
        up, down = above[chosen], below[chosen]
        high, deep, away = up < UNUSED, down < UNUSED, turned[chosen] < UNUSED
        if away.mean() >= 0.5:
            off = length(abs(float(np.median(turned[chosen][away]))))
            keys = context.sculpt.keys_of(struck[chosen][away])
            return Explanation(
                f"The sculpt lies within reach here, {off} from the low, but its faces look inward.",
                "Turn its winding over.",
                lambda spot: [offered_mends.fix(spot, "Turn the faces over", "flip_winding", keys)],
                "back", "Struck a back face",
            )  # fmt: skip
        outward, inward = float(seen.outward[rows[chosen]].max()), float(seen.inward[rows[chosen]].max())
        if high.mean() >= max(0.5, deep.mean()):
            gap, needed = float(np.median(up[high])), ROOM * float(up[high].max())
            return Explanation(
                f"The outward reach is {length(outward)} here, and the sculpt stands {length(gap)} above the low.",
                f"Raise the outward reach here to {length(needed)}, or place a pocket.", pocket(needed, inward),
                *OUTSIDE,
            )  # fmt: skip
        if deep.mean() >= 0.5:
            gap, needed = float(np.median(down[deep])), ROOM * float(down[deep].max())
            return Explanation(
                f"The inward reach is {length(inward)} here, and the sculpt lies {length(gap)} below the low.",
                f"Raise the inward reach here to {length(needed)}, or place a pocket.", pocket(outward, needed),
                *OUTSIDE,
            )  # fmt: skip
        return Explanation(
            f"There is no sculpt along these rays, up to {length(beyond)} beyond the reach.",
            "Close the sculpt here, fill the place in, or take the low away; where a hole is meant, bake the opacity.",
            lambda spot: [offered_mends.heal(spot)],
            by_part=True,
        )

    return Found(rows, tell)


@numba.njit(cache=True, nogil=True)
def _farther(triangle, b, rays, sculpt, both, beyond, above, below, turned, struck):  # type: ignore[no-untyped-def]
    """How far off the low lies what a ray from farther out, or one that goes farther in, would strike.

    And what it would strike of itself if backs counted, with the triangle of the sculpt.
    """
    pair, firsts = block(rays.pair, rays.pair_count, np.int32), block(sculpt.first, sculpt.first_count, np.int64)
    tracers = block(sculpt.tracers, (sculpt.tracers_count, 2), np.uint64)
    for i in range(len(triangle)):
        t = triangle[i]
        ox, oy, oz, dx, dy, dz, out, far = make_ray(t, b[i, 0], b[i, 1], b[i, 2], rays)
        distance, _, _, hit = hit_along(both[pair[t], 0], both[pair[t], 1], ox, oy, oz, dx, dy, dz, far)
        if hit >= 0:
            turned[i], struck[i] = out - distance, firsts[pair[t]] + hit
        function, scene = tracers[pair[t], 0], tracers[pair[t], 1]
        x, y, z = ox - dx * beyond, oy - dy * beyond, oz - dz * beyond
        distance, _, _, hit = hit_along(function, scene, x, y, z, dx, dy, dz, beyond)
        if hit >= 0:
            above[i] = out + beyond - distance
        x, y, z = ox + dx * far, oy + dy * far, oz + dz * far
        distance, _, _, hit = hit_along(function, scene, x, y, z, dx, dy, dz, beyond)
        if hit >= 0:
            below[i] = far - out + distance
