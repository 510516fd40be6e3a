"""Straightening: how far rays are turned from the cage's direction to that of their face."""

import numba
import numpy as np

from ..base.array_types import Any_
from ..cast.context import Context
from ..rays.modifiers.special import straight_at
from ..uv.rasterise import texel_barycentrics
from .derived import Derived

KEY, LABEL = "straightening", "Straightening"
REASON = "White where rays are turned wholly to their face; can be painted over and given back in the step Cage."
LAYER, GROUP, SPACE = "", "", "linear"
BACKGROUND = (0.0,)


def derive(context: Context, layer: Any_ | None) -> Derived:
    """(H, W, 1) float32 at each texel's nearest sample. Facts: the mean over the islands."""
    cast, grid, out = context.cast, context.low.grid, np.zeros(context.cast.covered.shape, np.float32)
    _weights(
        cast.low_triangle,
        cast.sample,
        grid.corners,
        grid.side,
        grid.shift,
        context.rays.points,
        context.rays.special,
        out,
    )
    on = cast.covered > 0
    return Derived(out[..., None], {"mean": float(out[on].mean()) if on.any() else 0.0})


@numba.njit(cache=True, nogil=True)
def _weights(low_triangle, sample, corners, side, shift, points, special, out):  # type: ignore[no-untyped-def]
    for y in range(out.shape[0]):
        for x in range(out.shape[1]):
            t = low_triangle[y, x]
            if t < 0:
                continue
            b0, b1, b2 = texel_barycentrics(corners, t, x, y, sample[y, x], side, shift)
            p = points[t]
            px = b0 * p[0, 0] + b1 * p[1, 0] + b2 * p[2, 0]
            py = b0 * p[0, 1] + b1 * p[1, 1] + b2 * p[2, 1]
            pz = b0 * p[0, 2] + b1 * p[1, 2] + b2 * p[2, 2]
            out[y, x] = straight_at(t, b1, b2, px, py, pz, special)
