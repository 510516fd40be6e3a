"""Best on this low: what projection could give here, a crisp map whose texels each take the best that they could.

Candidates of a texel are its own hit; the *nearest* of the first surfaces along both ways of the low's shading normal,
of its averaged normal and of its face's normal (as straightened rays would find them); and the *outermost* above it,
which a viewer sees first: of its pair, looking within 90 degrees of the low's face, no farther off than the nearest
surface of the low in that way. A texel keeps its own where neither other looks better. The figure as seen of such a map
is *best on this low*; what a bake is worse by is its *excess*, which reach, cage and mends can cure. What is left needs
triangles, not settings.
"""

from dataclasses import dataclass
from typing import Any

import numba
import numpy as np

from ..base.array_types import F32, Any_
from ..base.borrowed_arrays import block
from ..base.records import record_kind, record_of
from ..base.threads import in_batches
from ..cast.context import Context
from ..cast.occluders import occluders_on
from ..cast.shading_normal import shading_normal
from ..cast.texel import barycentrics_at, triangle_at
from ..maps.normal import encoded
from ..mesh.normals import averaged, face_normal
from ..rays.embree import blocked, hit_along
from ..rays.ray import point_on_low
from ..uv.padding import nearest_covered, pad
from ..uv.rasterise import GRID, tile_box

STEPS = 6  # surfaces that a candidate's ray goes through, since they look away
CLEAR = 1e-4  # of the diagonal: the low itself is no other surface of the low
FAR = 0.25  # of the diagonal: no candidate lies farther off
ALIKE = 0.9999  # cosine between two ways that find the same
PADDING = 4  # texels, for reading between them
TRIED = record_kind(
    {"sculpt": np.uint64, "low": np.uint64, "low_hits": np.uint64, "directions": np.float32},
    far=np.float64, clear=np.float64,
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Candidate:
    """What every texel of a sheet could take: object-space normals (H, W, 3) float32 and heights (H, W) float32.

    Heights are scene units, positive outward, NaN where there is nothing.
    """

    normals: F32
    heights: F32

    def image(self, context: Context) -> F32:
        """The tangent-space picture (H, W, 3) float32, 0.5 x + 0.5, not padded."""
        known = np.isfinite(self.heights).astype(np.uint8)
        return encoded(context.cast, context.low, context.recipe.basis, self.normals, known)


def padded(image: F32, context: Context) -> F32:
    """A picture with `PADDING` texels around its islands, for reading between texels; in its place."""
    source: Any_ = nearest_covered(context.cast.covered, PADDING)
    pad(image, source)
    return image


def own_of(context: Context) -> Candidate:
    """What the bake has."""
    cast = context.cast
    return Candidate(cast.normal, np.where(cast.struck > 0, cast.height, np.float32(np.nan)))


def nearest_of(context: Context) -> Candidate:
    """The nearest surface, the own hit among the others. Raises Cancelled where it is no longer wanted."""
    return _chosen(context, _choose_nearest, own_of(context))


def outermost_of(context: Context) -> Candidate:
    """The outermost surface along the averaged normals. Raises Cancelled where it is no longer wanted."""
    shape = context.cast.covered.shape
    nothing = Candidate(np.zeros((*shape, 3), np.float32), np.full(shape, np.nan, np.float32))
    return _chosen(context, _choose_outermost, nothing)


def _chosen(context: Context, kernel: Any, begun: Candidate) -> Candidate:
    cast, low, diagonal = context.cast, context.low, context.assembly.low.diagonal
    tried = record_of(
        TRIED, sculpt=occluders_on(context, "all").tracers, low=occluders_on(context, "low").blockers,
        low_hits=occluders_on(context, "low").tracers,
        directions=np.ascontiguousarray(averaged(context.assembly.low)[low.triangles]), far=FAR * diagonal,
        clear=CLEAR * diagonal,
    )  # fmt: skip
    normals, heights = begun.normals.copy(), begun.heights.copy()
    tiles, records = low.grid.busy_tiles, (low.record, cast.record, context.rays.record, context.sculpt.record)

    def work(first: int, last: int) -> None:
        kernel(tiles[first:last], *records, tried, normals, heights)

    in_batches(len(tiles), work, cancelled=context.warm.stopped)
    return Candidate(normals, heights)


@numba.njit(cache=True, nogil=True)
def _choose_nearest(tiles, low, cast, rays, sculpt, tried, normals, heights):  # type: ignore[no-untyped-def]
    """Write normal and height of the nearest candidate of each texel of some tiles; others stay."""
    grid, points = block(low.grid, 1, GRID)[0], block(rays.points, (rays.points_count, 3, 3), np.float32)
    shading = block(low.normals, (low.normals_count, 3, 3), np.float32)
    averaged_there = block(tried.directions, (tried.directions_count, 3, 3), np.float32)
    pair = block(rays.pair, rays.pair_count, np.int32)
    for tile in tiles:
        x0, y0, columns, rows = tile_box(tile, grid)
        for y in range(y0, y0 + rows):
            for x in range(x0, x0 + columns):
                t = triangle_at(x, y, cast)
                if t < 0:
                    continue
                b0, b1, b2 = barycentrics_at(x, y, t, low, cast)
                place, face = point_on_low(t, b0, b1, b2, rays), face_normal(points[t, 0], points[t, 1], points[t, 2])
                along, outward = _between(b0, b1, b2, shading[t]), _between(b0, b1, b2, averaged_there[t])
                nearest = tried.far if np.isnan(heights[y, x]) else abs(heights[y, x])
                for k in range(6):
                    way, sign = (along if k < 2 else outward if k < 4 else face), 1.0 - 2.0 * (k % 2)
                    if (k >= 2 and _dot(way, along) > ALIKE) or (k >= 4 and _dot(way, outward) > ALIKE):
                        continue
                    way = (sign * way[0], sign * way[1], sign * way[2])
                    length, normal = _candidate(place, way, face, pair[t], nearest, sculpt, tried)
                    if length < nearest:
                        nearest, heights[y, x] = length, sign * length
                        normals[y, x, 0], normals[y, x, 1], normals[y, x, 2] = normal


@numba.njit(cache=True, nogil=True)
def _choose_outermost(tiles, low, cast, rays, sculpt, tried, normals, heights):  # type: ignore[no-untyped-def]
    """Write normal and height of what lies farthest out above each texel of some tiles, below the low's other faces."""
    grid, points = block(low.grid, 1, GRID)[0], block(rays.points, (rays.points_count, 3, 3), np.float32)
    averaged_there = block(tried.directions, (tried.directions_count, 3, 3), np.float32)
    tracers = block(sculpt.tracers, (sculpt.tracers_count, 2), np.uint64)
    lows = block(tried.low_hits, (tried.low_hits_count, 2), np.uint64)
    pair = block(rays.pair, rays.pair_count, np.int32)
    for tile in tiles:
        x0, y0, columns, rows = tile_box(tile, grid)
        for y in range(y0, y0 + rows):
            for x in range(x0, x0 + columns):
                t = triangle_at(x, y, cast)
                if t < 0:
                    continue
                b0, b1, b2 = barycentrics_at(x, y, t, low, cast)
                p, face = point_on_low(t, b0, b1, b2, rays), face_normal(points[t, 0], points[t, 1], points[t, 2])
                d, k, clear = _between(b0, b1, b2, averaged_there[t]), pair[t], tried.clear
                room, _, _, hit = hit_along(
                    lows[k, 0],
                    lows[k, 1],
                    p[0] + clear * d[0],
                    p[1] + clear * d[1],
                    p[2] + clear * d[2],
                    d[0],
                    d[1],
                    d[2],
                    tried.far,
                )
                out = np.float64(room) if hit >= 0 else tried.far
                length, u, v, hit = hit_along(
                    tracers[k, 0],
                    tracers[k, 1],
                    p[0] + out * d[0],
                    p[1] + out * d[1],
                    p[2] + out * d[2],
                    -d[0],
                    -d[1],
                    -d[2],
                    out,
                )
                if hit >= 0:
                    first = block(sculpt.first, sculpt.first_count, np.int64)[k]
                    nx, ny, nz = shading_normal(first + hit, np.float64(u), np.float64(v), sculpt)
                    if nx * face[0] + ny * face[1] + nz * face[2] > 0:
                        heights[y, x] = out - length
                        normals[y, x, 0], normals[y, x, 1], normals[y, x, 2] = nx, ny, nz


@numba.njit(cache=True, nogil=True, inline="always")
def _dot(a, b):  # type: ignore[no-untyped-def]
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@numba.njit(cache=True, nogil=True)
def _between(b0, b1, b2, n):  # type: ignore[no-untyped-def]
    """Vectors n (3, 3) at the corners of a triangle, between them; of unit length."""
    x, y = b0 * n[0, 0] + b1 * n[1, 0] + b2 * n[2, 0], b0 * n[0, 1] + b1 * n[1, 1] + b2 * n[2, 1]
    z = b0 * n[0, 2] + b1 * n[1, 2] + b2 * n[2, 2]
    length = max(np.sqrt(x * x + y * y + z * z), 1e-30)
    return x / length, y / length, z / length


@numba.njit(cache=True, nogil=True)
def _candidate(p, d, face, pair, most, sculpt, tried):  # type: ignore[no-untyped-def]
    """The first surface along d from p that looks as the face does: (distance, unit normal); `most` for none nearer."""
    high = block(tried.sculpt, (tried.sculpt_count, 2), np.uint64)
    first = block(sculpt.first, sculpt.first_count, np.int64)[pair]
    gone = 0.0
    for _ in range(STEPS):
        x, y, z = p[0] + gone * d[0], p[1] + gone * d[1], p[2] + gone * d[2]
        length, u, v, hit = hit_along(high[pair, 0], high[pair, 1], x, y, z, d[0], d[1], d[2], most - gone)
        if hit < 0:
            break
        gone += length
        nx, ny, nz = shading_normal(first + hit, np.float64(u), np.float64(v), sculpt)
        if nx * face[0] + ny * face[1] + nz * face[2] > 0:
            return (most if _low_between(p, d, pair, gone, tried) else gone), (nx, ny, nz)
        gone += 1e-6 * tried.far
        if gone >= most:
            break
    return most, (0.0, 0.0, 0.0)


@numba.njit(cache=True, nogil=True)
def _low_between(p, d, pair, length, tried):  # type: ignore[no-untyped-def]
    """Whether another surface of the low lies within `length` of p along d."""
    low = block(tried.low, (tried.low_count, 2), np.uint64)
    x, y, z = p[0] + tried.clear * d[0], p[1] + tried.clear * d[1], p[2] + tried.clear * d[2]
    return length > tried.clear and blocked(low[pair, 0], low[pair, 1], x, y, z, d[0], d[1], d[2], length - tried.clear)
