"""Opacity: holes in the sculpt become holes in the mask."""

import numpy as np

from ..base.array_types import AnyArray
from ..cast.context import Context
from .value_range import Derived

KEY, LABEL = "opacity", "Opacity"
REASON = "White where rays strike the sculpt, black where they pass it by."
LAYER, GROUP, SPACE = "", "", "linear"
BACKGROUND = (0.0,)


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 1) float32: the share of a texel's samples on the low that struck. Facts: the mean over the islands."""
    covered, struck = context.cast.covered, context.cast.struck
    share = struck / np.maximum(covered, 1).astype(np.float32)
    whole = float(share[covered > 0].mean()) if covered.any() else 1.0
    return Derived(share[..., None].astype(np.float32), {"open_share": 1 - whole})
