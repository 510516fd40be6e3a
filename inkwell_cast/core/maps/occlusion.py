"""Ambient occlusion: white where every ray is free."""

import numpy as np

from ..arrays import F32, Any_
from ..ground import Ground
from .derived import Derived

KEY, LABEL = "occlusion", "Occlusion"
REASON = "How much of the sky above a texel is free, by rays."
RAW, GROUP, SPACE = "occlusion", "occlusion", "linear"
BACKGROUND = (1.0,)


def derive(ground: Ground, raw: Any_ | None) -> Derived:
    """(H, W, 1) float32: the free share, 0 to 1; white where nothing was struck."""
    assert raw is not None
    free: F32 = 1 - raw[..., 0]
    if ground.recipe.occlusion.occluders != "low":
        free[ground.cast.struck == 0] = 1
    own = free[ground.cast.struck > 0]
    return Derived(
        free[..., None], {"mean": float(own.mean()) if len(own) else 1.0, "darkest": float(np.min(own, initial=1))}
    )
