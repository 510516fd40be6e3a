"""A nearer surface was passed: rays struck something, but what they could have struck closer to the low looks right."""

import numpy as np

from ..base.array_types import I64
from ..base.figures import figure
from . import offered_mends
from .flaw import Explanation, FlawRows
from .nearest_surface import nearest_surface
from .texel_rows import TexelRows

KEY, TITLE = "farther", "A nearer surface was passed"
OFF = 0.5  # texels from the low
PASSED = 2.0  # texels between what a row struck and the nearest surface: within that they are one


def find(seen: TexelRows) -> FlawRows:
    """All texels that struck off the low, and past another surface: those that no other cause explains are left."""
    texel = seen.size / seen.step
    passed = np.abs(seen.height - seen.wanted) > PASSED * texel
    rows = np.flatnonzero((seen.struck > 0) & (np.abs(seen.height) > OFF * texel) & passed)

    def tell(region: I64) -> Explanation:
        at = rows[region]
        away, wrong = figure(float(np.median(np.abs(seen.height[at])))), float(np.median(seen.looks.excess[at]))
        return Explanation(
            f"Rays go {away} from the low before they strike, and look {wrong:.0f}° worse than the nearest surface "
            "would.",
            "Take the nearest surface here, or shorten the reach so that rays start in front of it.",
            lambda spot: [
                *nearest_surface(seen, spot, at),
                offered_mends.tight_pocket(seen, spot, at),
                offered_mends.straighten(seen, spot),
            ],
        )

    return FlawRows(rows, tell)
