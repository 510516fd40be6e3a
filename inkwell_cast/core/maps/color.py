"""Carried colour: the sculpt's vertex colours, or those of its materials, stored as sRGB."""

import numpy as np

from ..arrays import F32, Any_
from ..ground import Ground
from .derived import Derived

KEY, LABEL = "color", "Colour"
REASON = "The sculpt's vertex colours, or its materials' where it has none."
RAW, GROUP, SPACE = "color", "", "sRGB"
BACKGROUND = (0.0, 0.0, 0.0)


def derive(ground: Ground, raw: Any_ | None) -> Derived:
    """(H, W, 3) float32, encoded as IEC 61966-2-1 says."""
    assert raw is not None
    linear: F32 = np.clip(raw, 0, 1)
    bright = np.float32(1.055) * linear ** np.float32(1 / 2.4) - np.float32(0.055)
    return Derived(np.where(linear <= 0.0031308, np.float32(12.92) * linear, bright), exact=linear)
