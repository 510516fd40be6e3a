"""Thickness: how much of the body lies behind a texel, white at the limit.

The layer holds the mean length of cosine-weighted rays into the body, no longer than a limit, scene units.
"""

import numba
import numpy as np

from ..base.array_types import Any_
from ..base.borrowed_arrays import block
from ..base.records import record_kind, record_of
from ..base.sampling_sequence import cosine_direction, points_of_texel, square_point
from ..base.setting import scene_units
from ..cast.context import Context
from ..cast.hits import Hits
from ..cast.occluders import Occluders, occluders_on
from ..cast.texel import triangle_at
from ..rays.embree import hit_along
from ..settings.recipe import Recipe
from ..uv.rasterise import tile_box
from .derived import Derived
from .hits_of_tile import Cancel, Progress, hits_in, over_tiles, point_of, samples_of, tiles_of, triangles_of
from .occlusion import LIFT, bits_for

KEY, LABEL = "thickness", "Thickness"
REASON = "The mean way through the body behind a texel, for light that shines through."
LAYER, GROUP, SPACE = "thickness", "thickness", "linear"
BACKGROUND = (0.0,)


def derive(context: Context, layer: Any_ | None) -> Derived:
    """(H, W, 1) float32. Facts: the length that is white, scene units."""
    assert layer is not None
    white = limit_of(context.recipe, context.assembly.low.diagonal)
    return Derived(
        np.clip(layer / np.float32(white), 0, 1), {"black": 0.0, "white": white, "unit": "scene units"}, layer.copy
    )


CHANNELS, KIND = 1, np.float32
SHARE = 0.2  # of the low's diagonal: the limit where none is given

INWARD = record_kind({"tracers": np.uint64}, rays=np.int64, bits=np.int64, limit=np.float64, lift=np.float64)


def cost(recipe: Recipe) -> float:
    return recipe.thickness.rays / recipe.sheet.samples


def limit_of(recipe: Recipe, diagonal: float) -> float:
    """The longest length that counts, scene units."""
    limit = recipe.thickness.limit
    return float(SHARE * diagonal if limit == "auto" else limit * scene_units(recipe.thickness.unit, diagonal))


def prepare(context: Context) -> Occluders:
    return occluders_on(context, "pair")


def gather(context: Context, hits: Hits, ready: Occluders, out: Any_, progress: Progress, cancelled: Cancel) -> None:
    recipe, diagonal = context.recipe, context.assembly.low.diagonal
    rays = recipe.thickness.rays
    inward = record_of(
        INWARD, tracers=ready.tracers, rays=rays, bits=bits_for(rays), limit=limit_of(recipe, diagonal),
        lift=LIFT * diagonal,
    )  # fmt: skip
    arguments = (context.cast.record, context.rays.record, context.sculpt.record, inward, out)
    over_tiles(hits, context.low.grid, _inward, arguments, progress, cancelled)


@numba.njit(cache=True, nogil=True)
def _inward(first, last, hits, grid, cast, rays, sculpt, inward, out):  # type: ignore[no-untyped-def]
    """The mean length of rays into the body at each texel's hits, into out (H, W, 1); the others are records."""
    tiles, triangle, side = tiles_of(hits), triangles_of(hits), grid.side
    pair, tracers = (
        block(rays.pair, rays.pair_count, np.int32),
        block(inward.tracers, (inward.tracers_count, 2), np.uint64),
    )
    for k in range(first, last):
        x0, y0, columns, rows = tile_box(tiles[k], grid)
        for y in range(rows):
            for x in range(columns):
                begin, stride = samples_of(k, x, y, columns, hits, grid)
                count = hits_in(begin, stride, side, triangle)
                if not count:
                    continue
                each = (inward.rays + count - 1) // count
                taken, seed = points_of_texel(x0 + x, y0 + y, 2, inward.bits)
                tracer, total = tracers[pair[triangle_at(x0 + x, y0 + y, cast)]], 0.0
                for j in range(side):
                    for i in range(side):
                        n = begin + j * stride + i
                        if triangle[n] < 0:
                            continue
                        (px, py, pz), (gx, gy, gz) = point_of(n, triangle[n], -inward.lift, hits, sculpt)
                        for r in range(taken, taken + each):
                            u, v = square_point(r, seed)
                            dx, dy, dz = cosine_direction(u, v, 1.0, -gx, -gy, -gz)
                            length, _, _, hit = hit_along(tracer[0], tracer[1], px, py, pz, dx, dy, dz, inward.limit)
                            total += length if hit >= 0 else inward.limit
                        taken += each
                out[y0 + y, x0 + x, 0] = total / (each * count)
