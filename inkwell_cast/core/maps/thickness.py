"""Thickness: how much of the body lies behind a texel, white at the limit.

The layer holds the mean length of cosine-weighted rays into the body, no longer than a limit, scene units.
"""

import numba
import numpy as np

from ..base.array_types import Any_
from ..base.sampling_sequence import cosine_direction, points_of_texel, square_point
from ..base.setting import scene_units
from ..cast.context import Context
from ..cast.hits import Hits
from ..cast.occluders import Occluders, occluders_on
from ..rays.embree import hit_along
from ..settings.recipe import Recipe
from .derived import Derived
from .hits_of_tile import Cancel, Progress, hits_in, over_tiles, point_of, tile_box
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


def depends(recipe: Recipe) -> object:
    return recipe.thickness.model_dump()


def cost(recipe: Recipe) -> float:
    return recipe.thickness.rays / recipe.sheet.samples


def limit_of(recipe: Recipe, diagonal: float) -> float:
    """The longest length that counts, scene units."""
    own = recipe.thickness.limit
    return float(SHARE * diagonal if own == "auto" else own * scene_units(recipe.thickness.unit, diagonal))


def prepare(context: Context) -> Occluders:
    return occluders_on(context, "pair")


def gather(context: Context, hits: Hits, ready: Occluders, out: Any_, progress: Progress, cancelled: Cancel) -> None:
    recipe, diagonal, mesh = context.assembly.recipe, context.assembly.low.diagonal, context.sculpt.mesh
    arguments = (
        context.cast.low_triangle, context.rays.pair, mesh.positions, mesh.triangles, ready.tracers,
        recipe.thickness.rays, bits_for(recipe.thickness.rays),
        limit_of(recipe, diagonal), LIFT * diagonal, out,
    )  # fmt: skip
    over_tiles(hits, context.low.grid, _inward, arguments, progress, cancelled)


@numba.njit(cache=True, nogil=True)
def _inward(  # type: ignore[no-untyped-def]
    tiles, starts, triangle, uv, across, width, height, side, low_triangle, pair, positions, triangles, tracers, rays,
    bits, limit, lift, out,
):  # fmt: skip
    for k in range(len(tiles)):
        x0, y0, columns, rows = tile_box(tiles[k], across, width, height)
        for y in range(rows):
            for x in range(columns):
                stride = columns * side
                first = starts[k] + y * side * stride + x * side
                count = hits_in(first, stride, side, triangle)
                if not count:
                    continue
                each = (rays + count - 1) // count
                taken, seed = points_of_texel(x0 + x, y0 + y, 2, bits)
                tracer, total = tracers[pair[low_triangle[y0 + y, x0 + x]]], 0.0
                for j in range(side):
                    for i in range(side):
                        n = first + j * stride + i
                        t = triangle[n]
                        if t < 0:
                            continue
                        px, py, pz, gx, gy, gz, _, _ = point_of(n, t, uv, positions, triangles, -lift)
                        for r in range(taken, taken + each):
                            u, v = square_point(r, seed)
                            dx, dy, dz = cosine_direction(u, v, 1.0, -gx, -gy, -gz)
                            length, _, _, hit = hit_along(tracer[0], tracer[1], px, py, pz, dx, dy, dz, limit)
                            total += length if hit >= 0 else limit
                        taken += each
                out[y0 + y, x0 + x, 0] = total / (each * count)
