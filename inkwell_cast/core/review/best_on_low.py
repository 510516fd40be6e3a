"""Best on this low: what projection could give here, a crisp map whose texels each take the best that they could.

Candidates of a texel are its own hit; the *nearest* of the first surfaces along both ways of the low's shading normal,
of its averaged normal and of its face's normal (as straightened rays would find them), what is buried in another body
of the sculpt left out; and the *outermost* above it,
which a viewer sees first: of its pair, looking within 90 degrees of the low's face, no farther off than the nearest
surface of the low in that way. A texel keeps its own where neither other looks better. The figure as seen of such a map
is *best on this low*; what a bake is worse by is its *excess*, which reach, cage and mends can cure. What is left needs
triangles, not settings.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..base.array_types import F32, I32, I64, U8, AnyArray
from ..base.kernel_types import Hit, Vector
from ..base.kernels import kernel
from ..base.records import Record, record_kind, record_of, view
from ..base.threads import in_batches
from ..cast.context import Context
from ..cast.occluders import occluders_on
from ..cast.shading_normal import shading_normal
from ..cast.sheet_surroundings import points_of, unit_normals
from ..maps.normal import encoded
from ..mesh.normals import averaged
from ..piece.scene_cache import Slot
from ..rays.buried import buried_among, is_buried
from ..rays.embree import blocked, hit_along
from ..rays.packet import WIDTH
from ..uv.padding import nearest_covered, pad
from ..uv.rasterise import tile_box
from .texel_packets import (
    ALONG,
    BLOCKS,
    FACE,
    OUTWARD,
    PAIR,
    PLACE,
    TRIANGLE,
    X,
    Y,
    dot,
    fill,
    room_for_rays,
    strike,
    texels,
    vector,
)

STEPS = 6  # surfaces that a candidate's ray goes through, since they look away
CLEAR = 1e-4  # of the diagonal: the low itself is no other surface of the low
FAR = 0.25  # of the diagonal: no candidate lies farther off
ACROSS = 4.0  # times that: what buries a surface is looked for so far
ALIKE = 0.9999  # cosine between two ways that find the same
PADDING = 4  # texels, for reading between them
FILLED_FROM = Slot[tuple[AnyArray, I32]]()
TRIED = record_kind(
    {
        "sculpt": (np.uint64, 2),
        "packets": (np.uint64, 2),
        "front_packets": (np.uint64, 2),
        "low": (np.uint64, 2),
        "low_packets": (np.uint64, 2),
        "directions": (np.float32, 3, 3),
    },
    far=np.float64,
    clear=np.float64,
)


@dataclass(frozen=True, slots=True)
class Candidate:
    """What every texel of a sheet could take: object-space normals (H, W, 3) float32 and heights (H, W) float32.

    Heights are scene units, positive outward, NaN where there is nothing.
    """

    normals: F32
    heights: F32

    def image(self, context: Context, open_to: U8 | None = None, own: F32 | None = None) -> F32:
        """The tangent-space picture (H, W, 3) float32, 0.5 x + 0.5, not padded; that of `own` where it is not open."""
        known = np.isfinite(self.heights)
        if open_to is None or own is None:
            return encoded(context.cast, context.low, context.recipe.basis, self.normals, known.astype(np.uint8))
        known &= open_to > 0
        image = encoded(context.cast, context.low, context.recipe.basis, self.normals, known.astype(np.uint8))
        np.copyto(image, own, where=(open_to == 0)[..., None])
        return image


def padded(image: F32, context: Context) -> F32:
    """A picture with `PADDING` texels around its islands, for reading between texels; in its place."""
    covered = context.cast.covered
    _, source = context.warm.once(FILLED_FROM, str(id(covered)), lambda: (covered, nearest_covered(covered, PADDING)))
    pad(image, source)  # the covered texels are held, too: their identity stays theirs
    return image


def own_of(context: Context) -> Candidate:
    """What the bake has."""
    cast = context.cast
    return Candidate(cast.normal, np.where(cast.struck > 0, cast.height, np.float32(np.nan)))


def unburied(context: Context) -> Candidate:
    """What the bake has, without what is buried in another body of the sculpt. Raises Cancelled."""
    own = own_of(context)
    rows, columns = np.nonzero(np.isfinite(own.heights))
    tracers = occluders_on(context, "everything").tracers[0]
    normals, far = unit_normals(context)[rows, columns], context.assembly.low.diagonal
    places, heights = points_of(context)[rows, columns], own.heights.copy()
    buried = buried_among(places, normals, tracers, far, context.sculpt.record, context.warm.stopped)
    heights[rows[buried], columns[buried]] = np.nan
    return Candidate(own.normals, heights)


def nearest_of(context: Context, open_to: U8 | None = None, own: Candidate | None = None) -> Candidate:
    """The nearest surface, the own hit among the others; of all texels, or of those (H, W) that are not 0.

    `own` is what `unburied` gives, if that is known. Raises Cancelled where it is no longer wanted.
    """
    return _chosen(context, _choose_nearest, own or unburied(context), open_to)


def outermost_of(context: Context, open_to: U8 | None = None, own: Candidate | None = None) -> Candidate:
    """The outermost surface along the averaged normals; of texels as in `nearest_of`."""
    shape = context.cast.covered.shape
    nothing = Candidate(np.zeros((*shape, 3), np.float32), np.full(shape, np.nan, np.float32))
    return _chosen(context, _choose_outermost, nothing, open_to)


def _chosen(context: Context, kernel: Any, begun: Candidate, open_to: U8 | None) -> Candidate:
    open_to = np.ones(context.cast.covered.shape, np.uint8) if open_to is None else open_to
    cast, low, diagonal = context.cast, context.low, context.assembly.low.diagonal
    sculpt, on_low = occluders_on(context, "all"), occluders_on(context, "low")
    tried = record_of(
        TRIED,
        sculpt=sculpt.tracers,
        packets=sculpt.tracers,
        low=on_low.tracers,
        front_packets=context.sculpt.tracers,
        low_packets=on_low.tracers,
        directions=np.ascontiguousarray(averaged(context.assembly.low)[low.triangles]),
        far=FAR * diagonal,
        clear=CLEAR * diagonal,
    )
    normals, heights = begun.normals.copy(), begun.heights.copy()
    tiles, records = low.grid.busy_tiles, (low.record, cast.record, context.rays.record, context.sculpt.record)

    def work(first: int, last: int) -> None:
        kernel(tiles[first:last], *records, tried, open_to, normals, heights)

    in_batches(len(tiles), work, cancelled=context.warm.stopped)
    return Candidate(normals, heights)


@kernel
def _choose_nearest(
    tiles: I64,
    low: Record,
    cast: Record,
    rays: Record,
    sculpt: Record,
    tried: Record,
    open_to: U8,
    normals: F32,
    heights: F32,
) -> None:
    """Write normal and height of the nearest candidate of each texel of some tiles; others stay."""
    grid, high = view(low, "grid"), view(tried, "packets")
    averaged_there = view(tried, "directions")
    each, ready, found, struck = texels(), room_for_rays(), np.empty((3, WIDTH)), np.empty(WIDTH, np.int64)
    at, vectors = each
    origins, ways, reach, _ = ready
    for tile in tiles:
        box = tile_box(tile, grid)
        for number in range(BLOCKS):
            if not fill(number, box, low, cast, rays, averaged_there, open_to, each):
                continue
            for k in range(6):
                sign = 1.0 - 2.0 * (k % 2)
                for n in range(WIDTH):
                    reach[n] = -1
                    if at[TRIANGLE, n] < 0 or not _is_new(k, n, vectors):
                        continue
                    height = heights[at[Y, n], at[X, n]]
                    reach[n] = tried.far if np.isnan(height) else abs(height)
                    for c in range(3):
                        origins[c, n], ways[c, n] = vectors[PLACE, c, n], sign * vectors[ALONG + k // 2, c, n]
                strike(high, at, ready, found, struck)
                for n in range(WIDTH):
                    if struck[n] >= 0:
                        way = (np.float64(ways[0, n]), np.float64(ways[1, n]), np.float64(ways[2, n]))
                        hit, most = (found[0, n], found[1, n], found[2, n], struck[n]), np.float64(reach[n])
                        place, face, pair = vector(vectors, PLACE, n), vector(vectors, FACE, n), at[PAIR, n]
                        length, normal = _candidate(place, way, face, pair, most, hit, sculpt, tried)
                        if length < most:
                            heights[at[Y, n], at[X, n]] = sign * length
                            for c in range(3):
                                normals[at[Y, n], at[X, n], c] = normal[c]


@kernel(inline="always")
def _is_new(k: int, n: int, vectors: AnyArray) -> bool:
    """Whether way k of texel n finds anything else than the ways before it."""
    way, new = vector(vectors, ALONG + k // 2, n), True
    for row in range(ALONG, ALONG + k // 2):
        new &= dot(way, vector(vectors, row, n)) <= ALIKE
    return new


@kernel
def _choose_outermost(
    tiles: I64,
    low: Record,
    cast: Record,
    rays: Record,
    sculpt: Record,
    tried: Record,
    open_to: U8,
    normals: F32,
    heights: F32,
) -> None:
    """Write normal and height of what lies farthest out above each texel of some tiles, below the low's other faces."""
    grid = view(low, "grid")
    fronts = view(tried, "front_packets")
    averaged_there = view(tried, "directions")
    lows = view(tried, "low_packets")
    firsts, out = view(sculpt, "first"), np.empty(WIDTH)
    each, ready, found, struck = texels(), room_for_rays(), np.empty((3, WIDTH)), np.empty(WIDTH, np.int64)
    at, vectors = each
    origins, ways, reach, _ = ready
    for tile in tiles:
        box = tile_box(tile, grid)
        for number in range(BLOCKS):
            if not fill(number, box, low, cast, rays, averaged_there, open_to, each):
                continue
            for n in range(WIDTH):
                reach[n] = tried.far if at[TRIANGLE, n] >= 0 else -1
                for c in range(3):
                    ways[c, n] = vectors[OUTWARD, c, n]
                    origins[c, n] = vectors[PLACE, c, n] + tried.clear * vectors[OUTWARD, c, n]
            strike(lows, at, ready, found, struck)
            for n in range(WIDTH):
                out[n] = found[0, n] if struck[n] >= 0 else reach[n]
                reach[n] = out[n] + tried.clear if reach[n] > 0 else -1  # what lies on the low itself is struck, too
                for c in range(3):
                    ways[c, n] = -vectors[OUTWARD, c, n]
                    origins[c, n] = vectors[PLACE, c, n] + out[n] * vectors[OUTWARD, c, n]
            strike(fronts, at, ready, found, struck)
            for n in range(WIDTH):
                if struck[n] >= 0:
                    normal = shading_normal(firsts[at[PAIR, n]] + struck[n], found[1, n], found[2, n], sculpt)
                    height, beneath = out[n] - found[0, n], found[0, n]
                    theirs = out[n] < tried.far and beneath < height  # nearer to the face of the low that is above it
                    if dot(normal, vector(vectors, FACE, n)) > 0 and not theirs:
                        heights[at[Y, n], at[X, n]] = out[n] - found[0, n]
                        for c in range(3):
                            normals[at[Y, n], at[X, n], c] = normal[c]


@kernel
def _candidate(
    p: Vector, d: Vector, face: Vector, pair: int, most: float, hit: Hit, sculpt: Record, tried: Record
) -> tuple[float, Vector]:
    """The first surface along d from p that looks as the face does, and is not buried in another body of the sculpt.

    Gives (distance, unit normal); `most` for none nearer.

    `hit` is the first of all, as of `hit_along`.
    """
    high = view(tried, "sculpt")
    first = view(sculpt, "first")[pair]
    (length, u, v, triangle), gone = hit, 0.0
    for _ in range(STEPS):
        gone += length
        normal = shading_normal(first + triangle, np.float64(u), np.float64(v), sculpt)
        x, y, z = p[0] + gone * d[0], p[1] + gone * d[1], p[2] + gone * d[2]
        if dot(normal, face) > 0 and not is_buried(
            high[pair, 0], high[pair, 1], first, (x, y, z), normal, ACROSS * tried.far, sculpt
        ):
            return (most if _low_between(p, d, pair, gone, tried) else gone), normal
        gone += 1e-6 * tried.far
        if gone >= most:
            break
        x, y, z = p[0] + gone * d[0], p[1] + gone * d[1], p[2] + gone * d[2]
        alone = hit_along(high[pair, 0], high[pair, 1], x, y, z, d[0], d[1], d[2], most - gone)
        length, u, v, triangle = np.float64(alone[0]), np.float64(alone[1]), np.float64(alone[2]), np.int64(alone[3])
        if triangle < 0:
            break
    return most, (0.0, 0.0, 0.0)


@kernel
def _low_between(p: Vector, d: Vector, pair: int, length: float, tried: Record) -> bool:
    """Whether another surface of the low lies within `length` of p along d."""
    low = view(tried, "low")
    x, y, z = p[0] + tried.clear * d[0], p[1] + tried.clear * d[1], p[2] + tried.clear * d[2]
    return length > tried.clear and blocked(low[pair, 0], low[pair, 1], x, y, z, d[0], d[1], d[2], length - tried.clear)
