"""Occlusion without rays: from the heights and normals around a texel on the sheet, for a quick look at grooves."""

import numpy as np

from ..base.array_types import AnyArray
from ..cast.context import Context
from ..cast.sheet_surroundings import open_sky
from .value_range import Derived

KEY, LABEL = "sheet_occlusion", "Occlusion, quick"
REASON = "Shade in grooves from heights and normals on the sheet; takes no rays and sees no other part."
LAYER, GROUP, SPACE = "", "sheet_occlusion", "linear"
BACKGROUND = (1.0,)


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 1) float32: the free share, 0 to 1, to the power of the contrast."""
    settings = context.recipe.sheet_occlusion
    free = open_sky(context, max(settings.radius / 100 * context.low.grid.width, 1.5))
    return Derived(free[..., None] ** np.float32(settings.contrast))
