"""Decals: where floating details lie on the low, with soft borders; the mask by which they are laid over what is below.

The layer holds the share of a texel's samples that struck a floater.
"""

import numpy as np

from ..base.array_types import F32, AnyArray, Bool
from ..base.kernels import kernel
from ..base.progress import Cancel, ShareDone
from ..base.records import Record
from ..cast.context import Context
from ..cast.hits import Hits
from ..settings.recipe import Recipe
from ..uv.padding import nearest_covered
from ..uv.rasterise import tile_box
from .hits_of_tile import over_tiles, samples_of, tiles_of, triangles_of
from .value_range import Derived

KEY, LABEL = "decals", "Opacity of decals"
REASON = "White where floating details lie on the low, fading out toward their borders."
LAYER, GROUP, SPACE = "decals", "decals", "linear"
BACKGROUND = (0.0,)


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 1) float32. Facts: the share of the low's texels that a decal takes more than half of."""
    assert layer is not None
    covered = context.cast.covered > 0
    own = layer[..., 0][covered] > 0.5
    return Derived(opacity(context, layer)[..., None], {"decal_share": float(own.mean())})


def opacity(context: Context, layer: AnyArray) -> F32:
    """How far each texel is a floater's (H, W): its share, fading to 0 over the border."""
    share, covered = layer[..., 0], context.cast.covered > 0
    own = covered & (share > 0.5)
    return np.minimum(share, _fading(own, covered & ~own, context.recipe.decals.border)).astype(np.float32)


def _fading(own: Bool, outside: Bool, border: float) -> F32:
    """1 deeper inside than a border of so many texels, 0 at the first texel outside (H, W)."""
    if border == 0 or not outside.any():
        return np.ones(own.shape, np.float32)
    nearest = nearest_covered(outside.astype(np.uint8), int(np.ceil(border)) + 1)
    y, x = np.indices(own.shape)
    away = np.hypot(y - nearest // own.shape[1], x - nearest % own.shape[1])
    away[nearest < 0] = np.inf
    return np.asarray(np.clip(away / (border + 1), 0, 1), np.float32)


CHANNELS, KIND = 1, np.float32


def cost(recipe: Recipe) -> float:
    return 0.05


def prepare(context: Context) -> Bool:
    """Whether each triangle of the sculpt is a floater's."""
    floats = {part.key for pair in context.assembly.paired.pairs for part in pair.floats}
    flags = np.array([key in floats for key in context.sculpt.keys])
    return np.ascontiguousarray(flags[context.sculpt.mesh.objects])


def gather(context: Context, hits: Hits, ready: Bool, out: AnyArray, progress: ShareDone, cancelled: Cancel) -> None:
    over_tiles(hits, context.low.grid, _share, (ready, out), progress, cancelled)


@kernel
def _share(first: int, last: int, hits: Record, grid: Record, floats: Bool, out: F32) -> None:
    """The share of a texel's hits that are marked in floats (T,), into out (H, W, 1)."""
    tiles, triangle, side = tiles_of(hits), triangles_of(hits), grid.side
    for k in range(first, last):
        x0, y0, columns, rows = tile_box(tiles[k], grid)
        for y in range(rows):
            for x in range(columns):
                begin, stride = samples_of(k, x, y, columns, hits, grid)
                count = marked = 0
                for s in range(side * side):
                    t = triangle[begin + s // side * stride + s % side]
                    if t >= 0:
                        count += 1
                        marked += floats[t]
                if count:
                    out[y0 + y, x0 + x, 0] = marked / count
