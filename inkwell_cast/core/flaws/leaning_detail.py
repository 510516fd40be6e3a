"""Leaning detail: where averaged rays lean from a flat face, what stands off it is drawn sideways."""

import numpy as np

from ..base.array_types import I64
from . import offered_mends
from .flaw import Explanation, Found, length
from .texel_rows import Seen

KEY, TITLE = "leaning", "Leaning detail"
LEAN = 10.0  # degrees between ray and face
SHIFT = 2.0  # texels of a 1024 texel wide sheet by which detail is moved sideways
FLAT = 4.0  # degrees: a face whose shading follows it; where shading bends, the face stands for something round
SIDE = 1024


def find(seen: Seen) -> Found:
    """Texels on flat faces whose hit lies so far along a leaning ray that it is moved by more than `SHIFT` texels."""
    shift = np.abs(seen.height) * np.sin(np.radians(seen.lean))
    texel = seen.size / seen.step * max(seen.context.low.grid.width, seen.context.low.grid.height) / SIDE
    chosen = (seen.struck > 0) & (seen.lean > LEAN) & (seen.strain < FLAT) & (shift > SHIFT * texel)
    rows = np.flatnonzero(chosen)

    def tell(region: I64) -> Explanation:
        at = rows[region]
        worst = at[np.argmax(shift[at])]
        off, aside = length(abs(seen.height[worst])), length(shift[worst])
        return Explanation(
            f"Rays lean by up to {seen.lean[at].max():.0f}° from the flat face; what stands {off} off it is drawn "
            f"{aside} to the side.",
            "Straighten the rays here, split them at hard edges, or give the low a loop of edges there.",
            lambda spot: [
                offered_mends.straighten(spot),
                offered_mends.straighten_flat(spot),
                offered_mends.directions(spot, "split"),
            ],
        )

    return Found(rows, np.minimum(seen.lean[rows], 45.0), tell)
