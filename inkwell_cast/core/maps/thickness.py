"""Thickness: how much of the body lies behind a texel, white at the limit.

The layer holds the mean length of cosine-weighted rays into the body, no longer than a limit, scene units.
"""

import numpy as np

from ..base.array_types import F32, AnyArray
from ..base.kernels import kernel
from ..base.progress import Cancel, ShareDone
from ..base.records import Record, record_of, view
from ..base.sampling_sequence import points_of_texel
from ..base.setting import scene_units
from ..cast.context import Context
from ..cast.hits import Hits
from ..cast.occluders import occluders_on
from ..cast.texel import triangle_at
from ..piece.occluders import Occluders
from ..settings.recipe import Recipe
from ..uv.rasterise import tile_box
from .hits_of_tile import over_tiles, point_of, samples_of, tiles_of, triangles_of
from .occlusion import FALLOFFS, LIFT, bits_for
from .ray_bundle import AROUND, add_hit, empty_bundle, look
from .value_range import Derived

KEY, LABEL = "thickness", "Thickness"
REASON = "The mean way through the body behind a texel, for light that shines through."
LAYER, GROUP, SPACE = "thickness", "thickness", "linear"
BACKGROUND = (0.0,)


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 1) float32. Facts: the length that is white, scene units."""
    assert layer is not None
    white = limit_of(context.recipe, context.assembly.low.diagonal)
    return Derived(
        np.clip(layer / np.float32(white), 0, 1), {"black": 0.0, "white": white, "unit": "scene units"}, layer.copy
    )


CHANNELS, KIND = 1, np.float32
LINEAR = FALLOFFS.index("linear")  # what lies at the limit counts nothing, as what lies beyond it
SHARE = 0.2  # of the low's diagonal: the limit where none is given


def cost(recipe: Recipe) -> float:
    return recipe.thickness.rays / recipe.sheet.samples


def limit_of(recipe: Recipe, diagonal: float) -> float:
    """The longest length that counts, scene units."""
    limit = recipe.thickness.limit
    return float(SHARE * diagonal if limit == "auto" else limit * scene_units(recipe.thickness.unit, diagonal))


def prepare(context: Context) -> Occluders:
    return occluders_on(context, "pair")


def gather(
    context: Context, hits: Hits, ready: Occluders, out: AnyArray, progress: ShareDone, cancelled: Cancel
) -> None:
    settings, diagonal = context.recipe.thickness, context.assembly.low.diagonal
    inward = record_of(
        AROUND,
        tracers=ready.tracers,
        rays=settings.rays,
        bits=bits_for(settings.rays),
        far=limit_of(context.recipe, diagonal),
        falloff=LINEAR,
        widest=1.0,
        lift=-LIFT * diagonal,
        noise=settings.noise,
    )
    arguments = (context.cast.record, context.rays.record, context.sculpt.record, inward, out)
    over_tiles(hits, context.low.grid, _inward, arguments, progress, cancelled, empty_bundle)


@kernel
def _inward(
    first: int,
    last: int,
    hits: Record,
    grid: Record,
    cast: Record,
    rays: Record,
    sculpt: Record,
    inward: Record,
    out: F32,
    bundle: Record,
) -> None:
    """The mean length of rays into the body at each texel's hits, into out (H, W, 1); the others are records."""
    tiles, triangle, side = tiles_of(hits), triangles_of(hits), grid.side
    pair = view(rays, "pair")
    for k in range(first, last):
        x0, y0, columns, rows = tile_box(tiles[k], grid)
        for y in range(rows):
            for x in range(columns):
                begin, stride = samples_of(k, x, y, columns, hits, grid)
                for s in range(side * side):
                    n = begin + s // side * stride + s % side
                    if triangle[n] >= 0:
                        place, (gx, gy, gz) = point_of(n, triangle[n], inward.lift, hits, sculpt)
                        add_hit(place, (-gx, -gy, -gz), (-gx, -gy, -gz), bundle)
                if bundle.hits:
                    start, seed = points_of_texel(x0 + x, y0 + y, 2, inward.bits)
                    look(start, seed, pair[triangle_at(x0 + x, y0 + y, cast)], inward, bundle)
                    if bundle.seen:
                        out[y0 + y, x0 + x, 0] = inward.far * (1 - bundle.shade / bundle.seen)
