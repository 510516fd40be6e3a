"""Rays that part: what is round beside a hard edge is drawn twice or not at all, as averaged rays would not do."""

import numpy as np

from ..base.array_types import I64
from . import offered_mends
from .flaw import Explanation, FlawRows
from .texel_rows import TexelRows
from .trials import CURES

KEY, TITLE = "parting", "Rays part at a hard edge"


def find(seen: TexelRows) -> FlawRows:
    """Texels that averaged rays cure."""
    rows = np.flatnonzero(seen.averaged < CURES * seen.looks.excess)

    def tell(region: I64) -> Explanation:
        at = rows[region]
        now, left = (float(np.median(values[at])) for values in (seen.looks.excess, seen.averaged))
        return Explanation(
            f"Rays part at hard edges here, and what is round beside them is drawn {now:.0f}° worse than the best; "
            f"averaged rays would draw it {max(left, 0):.0f}° worse.",
            "Average the rays at these edges, or those of the whole part.",
            lambda spot: [offered_mends.average_edges(spot), offered_mends.directions(spot, "averaged")],
        )

    return FlawRows(rows, tell)
