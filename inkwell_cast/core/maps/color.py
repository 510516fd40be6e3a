"""Carried colour: the sculpt's textures, vertex colours or those of its materials, stored as sRGB."""

import numpy as np

from ..arrays import Any_
from ..ground import Ground
from ..room import in_bands
from ..srgb import to_srgb
from .derived import Derived

KEY, LABEL = "color", "Colour"
REASON = "The sculpt's textures, else its vertex colours, else those of its materials."
RAW, GROUP, SPACE = "color", "", "sRGB"
BACKGROUND = (0.0, 0.0, 0.0)


def derive(ground: Ground, raw: Any_ | None) -> Derived:
    """(H, W, 3) float32, encoded for storage; see `srgb`."""
    assert raw is not None
    return Derived(in_bands(lambda rows: to_srgb(np.clip(rows, 0, 1)), raw, 3), exact=lambda: np.clip(raw, 0, 1))
