"""Carried colour: the sculpt's vertex colours, or those of its materials, stored as sRGB."""

import numpy as np

from ..arrays import F32, Any_
from ..ground import Ground
from ..srgb import to_srgb
from .derived import Derived

KEY, LABEL = "color", "Colour"
REASON = "The sculpt's vertex colours, or its materials' where it has none."
RAW, GROUP, SPACE = "color", "", "sRGB"
BACKGROUND = (0.0, 0.0, 0.0)


def derive(ground: Ground, raw: Any_ | None) -> Derived:
    """(H, W, 3) float32, encoded for storage; see `srgb`."""
    assert raw is not None
    linear: F32 = np.clip(raw, 0, 1)
    return Derived(to_srgb(linear), exact=linear)
