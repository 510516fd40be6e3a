"""CarriedColors colour: the sculpt's textures, else its vertex colours, else those of its materials.

The layer holds linear RGB from 0 to 1; the picture is stored as sRGB.
"""

import numpy as np

from ..base.array_types import AnyArray
from ..base.color_space import to_srgb
from ..base.disk_arrays import in_bands
from ..base.progress import Cancel, ShareDone
from ..cast.context import Context
from ..cast.hits import Hits
from ..settings.recipe import Recipe
from .carried import CarriedColors, colors_of, gather_carried
from .value_range import Derived

KEY, LABEL = "color", "Colour"
REASON = "The sculpt's textures, else its vertex colours, else those of its materials."
LAYER, GROUP, SPACE = "color", "", "sRGB"
BACKGROUND = (0.0, 0.0, 0.0)


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 3) float32, encoded for storage; see `base.color_space`."""
    assert layer is not None
    return Derived(in_bands(lambda rows: to_srgb(np.clip(rows, 0, 1)), layer, 3), exact=lambda: np.clip(layer, 0, 1))


CHANNELS, KIND = 3, np.float32


def cost(recipe: Recipe) -> float:
    return 0.1


def prepare(context: Context) -> CarriedColors:
    return colors_of(context.sculpt.mesh)


def gather(
    context: Context, hits: Hits, ready: CarriedColors, out: AnyArray, progress: ShareDone, cancelled: Cancel
) -> None:
    gather_carried(context, hits, ready, out, progress, cancelled)
