"""How much two strips of lit pictures differ where they are drawn small, as a piece is from afar."""

import numpy as np

from ..base.array_types import F64, U8
from ..base.on_demand import library
from .lit_pictures import SIDE

cv2 = library("cv2")
DISTANCES = (256, 128, 64, 32)  # pixels that the piece is high on the screen


def differs_from_afar(sculpt: U8, low: U8) -> dict[int, float]:
    """By how many pixels high: the root mean square of what differs, in shares of white.

    Strips (SIDE, N, 4) uint8; what both leave empty counts nothing.
    """
    found = {}
    for pixels in DISTANCES:
        one, other = _drawn(sculpt, pixels), _drawn(low, pixels)
        there = (one[..., 3] + other[..., 3]) > 0
        off = (one[..., :3] - other[..., :3])[there]
        found[pixels] = float(np.sqrt((off * off).mean())) if len(off) else 0.0
    return found


def _drawn(strip: U8, pixels: int) -> F64:
    """A strip as large as it is drawn, its light times its cover, 0 to 1."""
    light = strip.astype(np.float64) / 255
    light[..., :3] *= light[..., 3:]
    height, width = strip.shape[:2]
    size = max(1, width * pixels // SIDE), max(1, height * pixels // SIDE)
    return np.asarray(cv2.resize(light, size, interpolation=cv2.INTER_AREA), np.float64)
