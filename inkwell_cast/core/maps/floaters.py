"""The shade of floaters alone, which the occlusion leaves out; multiplied onto that map they shade too."""

import numpy as np

from ..base.array_types import AnyArray
from ..base.progress import Cancel, ShareDone
from ..cast.context import Context
from ..cast.hits import Hits
from ..cast.occluders import occluders_on
from ..piece.occluders import Occluders
from ..settings.recipe import Recipe
from . import occlusion
from .value_range import Derived

KEY, LABEL = "floaters", "Occlusion of floaters"
REASON = "What floaters alone would hide of the sky; the other occlusion leaves them out."
LAYER, GROUP, SPACE = "floaters", "occlusion", "linear"
BACKGROUND = (1.0,)


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 1) float32: the share that floaters leave free; white where nothing was struck. Facts: their number."""
    assert layer is not None
    free = 1 - layer
    free[context.cast.struck == 0] = 1
    return Derived(free, {"floaters": sum(len(pair.floats) for pair in context.assembly.paired.pairs)})


CHANNELS, KIND = 1, np.float32


def cost(recipe: Recipe) -> float:
    return recipe.occlusion.rays / recipe.sheet.samples


def prepare(context: Context) -> Occluders | None:
    """The floaters of every pair; None where there are none."""
    floats = any(pair.floats for pair in context.assembly.paired.pairs)
    return occluders_on(context, "floaters") if floats else None


def gather(
    context: Context, hits: Hits, ready: Occluders | None, out: AnyArray, progress: ShareDone, cancelled: Cancel
) -> None:
    if ready is not None:
        occlusion.look_around(context, hits, "floaters", ready, out, progress, cancelled)
