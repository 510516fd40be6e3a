"""Leaning detail: where rays lean from the face that they serve, what stands off it is drawn sideways."""

import numpy as np

from ..base.array_types import I64
from . import offered_mends
from .flaw import Explanation, FlawRows, length
from .nearest_surface import nearest_surface
from .texel_rows import TexelRows

KEY, TITLE = "leaning", "Leaning detail"
LEAN = 10.0  # degrees between ray and face
SHIFT = 2.0  # texels of a 1024 texel wide sheet by which detail is moved sideways
BY_PART = True  # one setting straightens all of it
SIDE = 1024


def find(seen: TexelRows) -> FlawRows:
    """Texels whose hit lies so far along a leaning ray that it is moved by more than `SHIFT` texels.

    Detail that only bends over to the neighbouring face looks no worse for it, and is not told.
    """
    shift = np.abs(seen.height) * np.sin(np.radians(seen.lean))
    texel = seen.size / seen.step * max(seen.context.low.grid.width, seen.context.low.grid.height) / SIDE
    chosen = (seen.struck > 0) & (seen.lean > LEAN) & (shift > SHIFT * texel)
    rows = np.flatnonzero(chosen)

    def tell(region: I64) -> Explanation:
        at = rows[region]
        off, aside = length(float(np.median(np.abs(seen.height[at])))), length(float(np.median(shift[at])))
        return Explanation(
            f"Rays lean by {np.median(seen.lean[at]):.0f}° from the faces; what stands {off} off it is drawn "
            f"{aside} to the side.",
            "Straighten the rays here, split them at hard edges, or give the low a loop of edges there.",
            lambda spot: [
                offered_mends.straighten(spot),
                offered_mends.straighten_flat(spot),
                offered_mends.directions(spot, "split"),
                *nearest_surface(seen, spot, at),
            ],
        )

    return FlawRows(rows, tell)
