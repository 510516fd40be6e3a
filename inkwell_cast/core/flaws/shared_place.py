"""Places of the sheet that faces share which need different texels: islands overlap, are folded, or differ though
they lie on each other. The map holds what one of them needs."""

import numpy as np

from ..base.array_types import F64, I32, I64, Bool
from ..mesh.adjacency import edges_of, islands_of
from .flaw import Explanation, FlawRows
from .texel_rows import TexelRows
from .visible import FEW, sums_around

KEY, TITLE = "overlap", "Overlapping islands"
FOLDED = "folded", "Folded UVs"
UNLIKE = "overlap", "Shared place, unlike sculpts"
WHOLE_SHEET = EXPLAINS = True  # the best on this low suffers from it, too; no ray is why these rows look wrong
LEAST = 0.1  # of a row's pixels lie elsewhere
WORSE, ISLAND = 2.5, 1.0  # degrees by which those look worse than the others, there and on their island in the mean
ALONE = 8.0  # the same there, where it is only a spot of the island: places are seen from sides of their own
TWICE = 1.0  # of how wrong the others look: each place is seen from other sides, and so are places that are alike
WIDE = 6  # texels on each side that are looked at together: chance would find worse ones among few pixels
SAME = 0.01  # of the tile: islands whose boxes differ by less lie on each other


def find(seen: TexelRows) -> FlawRows:
    """Rows that are read from elsewhere too, where that looks worse than from the place that they were baked for."""
    visible = seen.visible
    shared = visible.shared
    if not shared.pixels.any():
        return FlawRows(np.zeros(0, np.int64), lambda region: Explanation("", ""), np.zeros(0))
    arrays = shared.angle, shared.pixels, visible.angle, visible.pixels
    sums = sums_around(seen.x, seen.y, seen.step, arrays, WIDE)
    there, apart, angle, pixels = sums.T
    beside = np.where(pixels - apart > FEW, (angle - there) / np.maximum(pixels - apart, FEW), visible.mean)
    worse = there / np.maximum(apart, FEW) - beside
    wrong = (apart > LEAST * pixels) & (worse > np.where(_differs(seen), WORSE, ALONE)) & (worse > TWICE * beside)
    rows = np.flatnonzero(wrong)
    error = (worse * apart / np.maximum(pixels, FEW))[rows]

    def tell(region: I64) -> Explanation:
        at = rows[region]
        others = visible.shared.other[seen.y[at], seen.x[at]]
        own = seen.context.low.triangles[seen.triangle[at]][others >= 0]
        (cause, title), remedy = _kind(seen, own.astype(np.int64), others[others >= 0].astype(np.int64))
        off = float(np.median(worse[at]))
        what = f"Faces elsewhere on the low share these texels and need others: seen there, they are {off:.0f}° off."
        return Explanation(what, remedy, cause=cause, title=title)

    return FlawRows(rows, tell, error)


def _differs(seen: TexelRows) -> Bool:
    """Whether the face of each row lies on an island of which what is seen from elsewhere looks worse in the mean."""
    shared, visible = seen.visible.shared, seen.visible
    island = _islands(seen)[seen.context.low.triangles[seen.triangle]]
    there, apart, angle, pixels = (
        np.bincount(island, values[seen.y, seen.x])
        for values in (shared.angle, shared.pixels, visible.angle, visible.pixels)
    )
    beside = (angle - there) / np.maximum(pixels - apart, FEW)
    return np.asarray((there / np.maximum(apart, FEW) - beside > ISLAND)[island], np.bool_)


def _islands(seen: TexelRows) -> I32:
    """The island of every triangle of the joined low."""
    low = seen.context.assembly.low
    return islands_of(low.uvs[seen.context.recipe.sheet.channel].at_corners(), edges_of(low))


def _kind(seen: TexelRows, own: I64, others: I64) -> tuple[tuple[str, str], str]:
    """Cause with its title, and remedy, of faces of the low that share texels, (N,) each."""
    low = seen.context.assembly.low
    uvs, islands = low.uvs[seen.context.recipe.sheet.channel].at_corners().astype(np.float64), _islands(seen)
    if len(own) and (islands[own] == islands[others]).mean() > 0.5:
        return FOLDED, "Relax or unwrap the island again."
    if (
        len(own)
        and np.abs(_box(uvs, islands == islands[own[0]]) - _box(uvs, islands == islands[others[0]])).max() < SAME
    ):
        return UNLIKE, "Give these islands places of their own; sharing is for parts whose sculpts are alike."
    return (KEY, TITLE), "Move the islands apart, or onto each other exactly to share them."


def _box(uvs: F64, chosen: I64) -> F64:
    """Lowest and highest UV of some triangles within their tile, (4,)."""
    flat = uvs[chosen].reshape(-1, 2)
    low, high = flat.min(axis=0), flat.max(axis=0)
    tile = np.floor((low + high) / 2)
    return np.concatenate([low - tile, high - tile])
