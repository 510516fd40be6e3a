"""What maps need beyond the cast, gathered from its hits texel by texel and kept until the rays change.

A raw layer has values in scene units or names, before ranges and colours; maps are derived from it without a ray. One
module each, listed here. One with `finish(ground, out, progress, cancelled)` has a last word on the whole layer: what
it gives takes its place, None leaves it. A layer that is asked for later is gathered from the hits that the first bake
kept.
"""

from typing import Any, Protocol

from ..arrays import Any_
from ..cast import Cast, Hits
from ..ground import Ground
from ..recipe import Recipe
from ..room import room
from . import color, curvature, floaters, ids, occlusion, position, thickness
from .texels import Cancel, Progress


class Raw(Protocol):
    """A layer (H, W, CHANNELS) of KIND, gathered from hits; `COST` is its time relative to tracing the rays."""

    CHANNELS: int
    KIND: Any

    def depends(self, recipe: Recipe) -> object:
        """The settings that its values follow; others change nothing."""

    def cost(self, recipe: Recipe) -> float:
        """Time it takes, in times of the cast."""

    def prepare(self, ground: Ground) -> Any:
        """What it needs of the whole piece, computed once."""

    def gather(self, ground: Ground, hits: Hits, ready: Any, out: Any_, progress: Progress, cancelled: Cancel) -> None:
        """Write the texels of the tiles in `hits` into `out`; raises Cancelled."""


RAWS: dict[str, Raw] = {
    "occlusion": occlusion,
    "floaters": floaters,
    "thickness": thickness,
    "curvature": curvature.Curvature("curvature"),  # type: ignore[dict-item]
    "cavity": curvature.Curvature("cavity"),  # type: ignore[dict-item]
    "position": position,
    "ids": ids,
    "color": color,
}


def empty(raw: Raw, cast: Cast, on_disk: bool = False) -> Any_:
    return room((*cast.covered.shape, raw.CHANNELS), raw.KIND, on_disk)
