"""Straightening: how far rays are turned from the cage's direction to that of their face."""

import numpy as np

from ..base.array_types import F32, AnyArray
from ..base.kernels import kernel
from ..base.records import Record, view
from ..cast.context import Context
from ..cast.texel import barycentrics_at, triangle_at
from ..rays.modifiers.modifiers import straightness_at
from ..rays.ray import point_on_low
from .value_range import Derived

KEY, LABEL = "straightening", "Straightening"
REASON = "White where rays are turned wholly to their face; can be painted over and given back in the step Cage."
LAYER, GROUP, SPACE = "", "", "linear"
BACKGROUND = (0.0,)


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 1) float32 at each texel's nearest sample. Facts: the mean over the islands."""
    cast, out = context.cast, np.zeros(context.cast.covered.shape, np.float32)
    _weights(context.low.record, cast.record, context.rays.record, out)
    on = cast.covered > 0
    return Derived(out[..., None], {"mean": float(out[on].mean()) if on.any() else 0.0})


@kernel
def _weights(low: Record, cast: Record, rays: Record, out: F32) -> None:
    """How far the ray of each texel is turned to its face, (H, W), 0 to 1; records."""
    flags, modifiers = view(rays, "flags"), view(rays, "modifiers")
    for y in range(out.shape[0]):
        for x in range(out.shape[1]):
            t = triangle_at(x, y, cast)
            if t >= 0:
                b0, b1, b2 = barycentrics_at(x, y, t, low, cast)
                place = point_on_low(t, b0, b1, b2, rays)
                out[y, x] = straightness_at(t, b1, b2, place, flags[t], modifiers)
