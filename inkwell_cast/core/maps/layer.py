"""Layers: what maps need beyond the cast, gathered from its hits texel by texel and kept until the rays change.

A layer has values in scene units or names, before ranges and colours; maps are derived from it without a ray. One with
`finish(context, out, progress, cancelled)` changes the whole of it at the end: what that gives takes its place, None
leaves it. A layer that is asked for later is gathered from the hits that the first bake kept.
"""

from typing import Any, Protocol

from ..base.array_types import I64, AnyArray
from ..base.disk_arrays import room
from ..base.progress import Cancel, ShareDone
from ..cast.context import Context
from ..cast.hits import Cast, Hits
from ..cast.partial_rebake import without_tiles
from ..settings.recipe import Recipe


class Layer(Protocol):
    """A layer (H, W, CHANNELS) of KIND, gathered from hits."""

    CHANNELS: int
    KIND: Any

    def cost(self, recipe: Recipe) -> float:
        """Time it takes, in times of the cast."""

    def prepare(self, context: Context) -> Any:
        """What it needs of the whole piece, computed once."""

    def gather(
        self, context: Context, hits: Hits, ready: Any, out: AnyArray, progress: ShareDone, cancelled: Cancel
    ) -> None:
        """Write the texels of the tiles in `hits` into `out`; raises Cancelled."""


def empty(layer: Layer, cast: Cast, on_disk: bool = False) -> AnyArray:
    return room((*cast.covered.shape, layer.CHANNELS), layer.KIND, on_disk)


def gather_tiles(
    context: Context, layer: Layer, rough: AnyArray, tiles: I64, fresh: Hits, tell: ShareDone, cancelled: Cancel
) -> AnyArray:
    """A layer as it was gathered, with some tiles gathered anew from their hits; it is not finished yet."""
    out = without_tiles(rough, context.low.grid, tiles, 0)
    layer.gather(context, fresh, layer.prepare(context), out, tell, cancelled)
    return out


def finished(context: Context, layer: Layer, rough: AnyArray, tell: ShareDone, cancelled: Cancel) -> AnyArray | None:
    """A layer after what is done to the whole of it at the end, such as denoising; None where nothing is."""
    return layer.finish(context, rough, tell, cancelled) if hasattr(layer, "finish") else None
