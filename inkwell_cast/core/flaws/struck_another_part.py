"""Struck another part: a ray goes past its own surface and strikes what lies close to the low somewhere else."""

from functools import cache
from typing import Any

import numpy as np

from ..base.array_types import F64, I32, I64
from ..base.figures import figure
from ..base.on_demand import on_demand
from ..cast.context import Context
from ..cast.sheet_surroundings import points_of
from ..mesh.surface_samples import spread_over
from ..piece.scene_cache import Slot
from ..rays.nearest_surface import closest_of
from ..settings.mends import Mend
from . import offered_mends
from .flaw import Explanation, FlawRows, Spot
from .nearest_surface import nearest_surface
from .texel_rows import TexelRows

cKDTree = on_demand("scipy.spatial", "cKDTree")

KEY, TITLE = "other", "Struck another part"
FAR, SHARE = 4.0, 0.35  # texels from the low to the hit; and how much closer the hit lies to another place of the low
LOOKED_AT = 0.002  # of the low's diagonal: hits nearer than that are of the own place
SEEDS, NEIGHBOURS = 60_000, 8
MOST_ROWS = 200_000
SEEDS_OF = Slot[dict[int, tuple[Any, I64]]]()  # trees of places on the low, and the triangles those lie on, by pair


def find(seen: TexelRows) -> FlawRows:
    """Texels whose hit is far along the ray, and less than `SHARE` of that from another place of the pair's lows."""
    context, away = seen.context, np.abs(seen.height)
    least = np.maximum(FAR * seen.size / seen.step, LOOKED_AT * context.assembly.low.diagonal)
    rows = np.flatnonzero((seen.struck > 0) & (away > least))
    rows = rows[:: -(-len(rows) // MOST_ROWS) or 1]
    hits = points_of(context)[seen.y[rows], seen.x[rows]].astype(np.float64)
    distance, owner = _nearest(context, hits, context.rays.pair[seen.triangle[rows]])
    wrong = distance < SHARE * away[rows]
    rows, distance, owner = rows[wrong], distance[wrong], owner[wrong]
    objects = context.assembly.low.objects
    hit_object = context.sculpt.mesh.objects[np.maximum(context.cast.hit_triangle[seen.y[rows], seen.x[rows]], 0)]

    def tell(region: I64) -> Explanation:
        at = rows[region]
        here = int(objects[context.low.triangles[seen.triangle[at[0]]]])
        there = np.bincount(objects[owner[region]]).argmax()
        high = int(np.bincount(hit_object[region]).argmax())
        name = context.assembly.keys[there].rpartition("/")[2] if there != here else "another side of it"
        gone, off = figure(float(np.median(away[at]))), figure(float(np.median(distance[region])))
        return Explanation(
            f"Rays go {gone} from the low before they strike what lies {off} from {name}.",
            "Shorten the reach here, or leave the other part out; parts that lie close are best baked as pairs of "
            "their own.",
            lambda spot: _mends(seen, spot, at, high, owners().get(here, [])),
        )

    owners = cache(lambda: _highs_by_low(seen.everything or seen))
    return FlawRows(rows, tell)


def _highs_by_low(seen: TexelRows) -> dict[int, list[int]]:
    """For objects of the low those of the sculpt that lie nearer along their rays than along those of others."""
    context, rows = seen.context, np.flatnonzero(seen.struck > 0)
    rows = rows[:: -(-len(rows) // MOST_ROWS) or 1]
    low = context.assembly.low.objects[context.low.triangles[seen.triangle[rows]]].astype(np.int64)
    high = context.sculpt.mesh.objects[np.maximum(context.cast.hit_triangle[seen.y[rows], seen.x[rows]], 0)]
    near, both = np.abs(seen.height[rows]), high.astype(np.int64) * (int(low.max(initial=0)) + 1) + low
    order = np.lexsort((near, both))
    _, first, count = np.unique(both[order], return_index=True, return_counts=True)
    median, nearest = near[order][first + count // 2], dict[int, tuple[float, int]]()
    for own, h, w in zip(median.tolist(), high[order][first].tolist(), low[order][first].tolist(), strict=True):
        nearest[h] = min(nearest.get(h, (np.inf, -1)), (own, w))
    highs = dict[int, list[int]]()
    for h in sorted(nearest):
        highs.setdefault(nearest[h][1], []).append(h)
    return highs


def _mends(seen: TexelRows, spot: Spot, at: I64, high: int, lows: list[int]) -> list[Mend]:
    """A pair of its own, where both have highs of their own; the other high left out; or the reach ended before it."""
    context, mends = seen.context, list[Mend]()
    if high not in lows:
        pair = context.assembly.paired.pair_of(spot.part)
        if lows and pair and len(pair.lows) > 1:
            mends.append(offered_mends.own_pair(context.assembly, spot, [context.sculpt.keys[n] for n in lows]))
        mends.append(offered_mends.leave_out(spot, context.sculpt.keys[high]))
    mends.append(offered_mends.tight_pocket(seen, spot, at))
    return [*mends, *nearest_surface(seen, spot, at)]


def _nearest(context: Context, places: F64, pair: I32) -> tuple[F64, I64]:
    """Distance from each place to the nearest of its pair's lows, and the triangle of the low that is."""
    assembly = context.assembly
    points = assembly.low.positions[assembly.low.triangles].astype(np.float64)
    distance, owner = np.full(len(places), np.inf), np.zeros(len(places), np.int64)
    by_pair = context.warm.once(SEEDS_OF, assembly.shape(), dict[int, tuple[Any, I64]])
    for n in np.unique(pair).tolist():
        rows = np.flatnonzero(pair == n)
        if n not in by_pair:
            seeds, owners, _ = spread_over(points, np.flatnonzero(assembly.low_pair == n), SEEDS)
            by_pair[n] = cKDTree(seeds), owners
        tree, owners = by_pair[n]
        near = tree.query(places[rows], min(NEIGHBOURS, tree.n), workers=-1)[1].reshape(len(rows), -1)
        distance[rows], owner[rows] = closest_of(places[rows], owners[near], points)
    return distance, owner
