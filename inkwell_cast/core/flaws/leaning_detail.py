"""Leaning detail: where rays lean from the face that they serve, what stands off it is drawn sideways."""

import numpy as np

from ..base.array_types import I64
from ..base.figures import figure
from . import offered_mends
from .flaw import Explanation, FlawRows
from .nearest_surface import nearest_surface
from .texel_rows import TexelRows
from .trials import CURES, shift_of

KEY, TITLE = "leaning", "Leaning detail"
BY_PART = IN_PLACES = True  # a little everywhere is noticed, but looked at and straightened where it shows most


def find(seen: TexelRows) -> FlawRows:
    """Texels that straight rays cure."""
    rows = np.flatnonzero(seen.straight < CURES * seen.looks.excess)

    def tell(region: I64) -> Explanation:
        at = rows[region]
        off, aside = figure(float(np.median(np.abs(seen.height[at])))), figure(float(np.median(shift_of(seen)[at])))
        left, now = (float(np.median(values[at])) for values in (seen.straight, seen.looks.excess))
        return Explanation(
            f"Rays lean by {np.median(seen.lean[at]):.0f}° from the faces; what stands {off} off it is drawn "
            f"{aside} to the side. Straight rays would look {max(left, 0):.0f}° worse than the best, these {now:.0f}°.",
            "Straighten the rays here, split them at hard edges, or give the low a loop of edges there.",
            lambda spot: [
                offered_mends.straighten(seen, spot),
                offered_mends.straighten_flat(spot),
                offered_mends.directions(spot, "split"),
                *nearest_surface(seen, spot, at),
            ],
        )

    return FlawRows(rows, tell)
