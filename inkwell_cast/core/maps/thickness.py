"""Thickness: how much of the body lies behind a texel, white at the limit."""

import numpy as np

from ..arrays import Any_
from ..gather.thickness import limit_of
from ..ground import Ground
from .derived import Derived

KEY, LABEL = "thickness", "Thickness"
REASON = "The mean way through the body behind a texel, for light that shines through."
RAW, GROUP, SPACE = "thickness", "thickness", "linear"
BACKGROUND = (0.0,)


def derive(ground: Ground, raw: Any_ | None) -> Derived:
    """(H, W, 1) float32. Facts: the length that is white, scene units."""
    assert raw is not None
    white = limit_of(ground.recipe, ground.assembly.low.diagonal)
    return Derived(
        np.clip(raw / np.float32(white), 0, 1), {"black": 0.0, "white": white, "unit": "scene units"}, raw.copy
    )
