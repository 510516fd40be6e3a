"""Missed: rays that strike nothing, so the map has no normal of the sculpt there; or start below what is seen."""

import numpy as np

from ..base.array_types import F64, I32, I64, U64
from ..base.figures import figure
from ..base.kernels import kernel
from ..base.records import Record, view
from ..cast.occluders import occluders_on
from ..rays.embree import hit_along
from ..rays.ray import make_ray
from ..settings.mends import Mend
from . import offered_mends
from .flaw import Explanation, FlawRows, Spot
from .texel_rows import TexelRows

KEY, TITLE = "missed", "Missed"
OUTSIDE = "outside", "Sculpt outside the cage"  # cause and title where only the reach falls short
TURNED = "back", "Struck a back face"  # where the sculpt is wound inside out
BEYOND = 0.5  # of the low's diagonal: how far past the reach the sculpt is looked for
UNUSED = 1e30
ROOM = 1.05  # a mended reach goes a little farther than the sculpt


def find(seen: TexelRows) -> FlawRows:
    """Texels none of whose samples struck, or whose rays start below what a viewer sees there.

    What is said follows from how far off the sculpt lies along their rays.
    """
    passed = (seen.struck > 0) & (seen.wanted > seen.outward)
    rows = np.flatnonzero((seen.struck == 0) | passed)
    context, beyond = seen.context, BEYOND * seen.context.assembly.low.diagonal
    above, below, turned = (np.full(len(rows), UNUSED) for _ in range(3))
    struck = np.full(len(rows), -1, np.int64)
    _farther(
        seen.triangle[rows],
        seen.b[rows],
        context.rays.record,
        context.sculpt.record,
        occluders_on(context, "all").tracers,
        beyond,
        above,
        below,
        turned,
        struck,
    )

    def tell(chosen: I64) -> Explanation:
        if passed[rows[chosen]].mean() >= 0.5:
            return _above_others(seen, rows[chosen])
        up, down, away = above[chosen], below[chosen], turned[chosen] < UNUSED
        if away.mean() >= 0.5:
            off = figure(abs(float(np.median(turned[chosen][away]))))
            return _turned(seen, rows[chosen], off, struck[chosen][away])
        away_from_reach = _out_of_reach(seen, rows[chosen], up, down)
        if away_from_reach:
            return away_from_reach
        return Explanation(
            f"There is no sculpt along these rays, up to {figure(beyond)} beyond the reach.",
            "Close the sculpt here, fill the place in, or take the low away; where a hole is meant, bake the opacity.",
            lambda spot: offered_mends.heals(seen, spot),
            by_part=True,
        )

    return FlawRows(rows, tell)


def _turned(seen: TexelRows, at: I64, off: str, struck: I64) -> Explanation:
    """Sculpt that is seen from behind alone: one of both is wound inward, or the low lies where another wall ends.

    The sculpt is, where nobody strikes it from its front; the low is, where most of its part strikes nothing else.
    """
    context = seen.context
    keys = context.sculpt.keys_of(struck)
    hits = context.cast.hit_triangle[context.cast.struck > 0]
    right = keys[0] in context.sculpt.keys_of(hits[hits >= 0])
    if right and _strikes_mostly(seen, int(_object(seen, at[:1])[0])):
        return Explanation(
            f"Rays strike only the back of a wall, {off} away: none of the sculpt looks toward the low here.",
            "Fill the place in, straighten the rays, or lay the low onto what a viewer sees.",
            lambda spot: offered_mends.heals(seen, spot),
        )

    def mends(spot: Spot) -> list[Mend]:
        ways = [
            offered_mends.fix(spot, "Turn the faces of the sculpt over", "flip_winding", keys),
            offered_mends.fix(spot, "Turn the faces of the low over", "flip_winding", [spot.part]),
        ]
        return ways[::-1] if right else ways

    if right:
        what = f"The sculpt lies within reach here, {off} away, but the low looks inward: other parts strike the same "
        return Explanation(f"{what}sculpt from its front.", "Turn the winding of the low over.", mends, *TURNED)
    what = f"The sculpt lies within reach here, {off} from the low, but its faces look inward."
    return Explanation(what, "Turn its winding over.", mends, *TURNED)


def _strikes_mostly(seen: TexelRows, part: int) -> bool:
    """Whether most texels of a part of the low strike the sculpt from its front."""
    every = seen.everything or seen
    own = _object(every, np.arange(len(every.struck))) == part
    return bool((every.struck[own] > 0).mean() >= 0.5)


def _object(seen: TexelRows, at: I64) -> I32:
    """The part of the low that some rows lie on."""
    return seen.context.assembly.low.objects[seen.context.low.triangles[seen.triangle[at]]]


def _out_of_reach(seen: TexelRows, at: I64, up: F64, down: F64) -> Explanation | None:
    """Sculpt that lies so far above or below rows that no ray of theirs gets there; None where there is none."""
    outward, inward = float(seen.outward[at].max()), float(seen.inward[at].max())
    high, deep = up < UNUSED, down < UNUSED
    out = high.mean() >= max(0.5, deep.mean())
    if not out and deep.mean() < 0.5:
        return None
    far = up[high] if out else down[deep]
    gap, needed, way = figure(float(np.median(far))), ROOM * float(far.max()), "outward" if out else "inward"
    reach, stands = (outward, f"stands {gap} above") if out else (inward, f"lies {gap} below")
    reaches = (needed, inward) if out else (outward, needed)
    return Explanation(
        f"The {way} reach is {figure(reach)} here, and the sculpt {stands} the low.",
        f"Raise the {way} reach here to {figure(needed)}, or place a pocket.",
        lambda spot: [offered_mends.pocket(seen.context.assembly, spot, reaches)],
        *OUTSIDE,
    )


def _above_others(seen: TexelRows, at: I64) -> Explanation:
    """Sculpt beyond the start of rays that strike other sculpt below it."""
    above = seen.wanted[at][seen.wanted[at] > seen.outward[at]]
    reach, gap, needed = float(seen.outward[at].max()), float(np.median(above)), ROOM * float(above.max())
    return Explanation(
        f"The outward reach is {figure(reach)} here; the sculpt stands {figure(gap)} above the low, and rays that "
        "start below it strike what lies under it.",
        f"Raise the outward reach here to {figure(needed)}, or place a pocket.",
        lambda spot: [offered_mends.pocket(seen.context.assembly, spot, (needed, float(seen.inward[at].max())))],
        *OUTSIDE,
    )


@kernel
def _farther(
    triangle: I32,
    b: F64,
    rays: Record,
    sculpt: Record,
    both: U64,
    beyond: float,
    above: F64,
    below: F64,
    turned: F64,
    struck: I64,
) -> None:
    """How far off the low lies what a ray from farther out, or one that goes farther in, would strike.

    And what it would strike of itself if backs counted, with the triangle of the sculpt.
    """
    pair, firsts = view(rays, "pair"), view(sculpt, "first")
    tracers = view(sculpt, "tracers")
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
