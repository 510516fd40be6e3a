"""Occlusion without rays: from the heights and normals around a texel on the sheet, for a quick look at grooves."""

import numpy as np

from ..arrays import Any_
from ..ground import Ground
from ..near import open_sky
from .derived import Derived

KEY, LABEL = "sheet_occlusion", "Occlusion, quick"
REASON = "Shade in grooves from heights and normals on the sheet; takes no rays and sees no other part."
RAW, GROUP, SPACE = "", "sheet_occlusion", "linear"
BACKGROUND = (1.0,)


def derive(ground: Ground, raw: Any_ | None) -> Derived:
    """(H, W, 1) float32: the free share, 0 to 1, to the power of the contrast."""
    own = ground.recipe.sheet_occlusion
    free = open_sky(ground, max(own.radius / 100 * ground.low.grid.width, 1.5))
    return Derived(free[..., None] ** np.float32(own.contrast))
