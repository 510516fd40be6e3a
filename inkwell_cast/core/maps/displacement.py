"""Displacement: how far each place of the low moves along its normal, the first step of a two-step relief."""

import numba
import numpy as np

from ..arrays import Any_
from ..ground import Ground
from ..sheet import texel_barycentrics
from .derived import Derived, signed

KEY, LABEL = "displacement", "Displacement"
REASON = "The large forms move the subdivided low; the other maps are baked onto what that gives."
RAW, GROUP, SPACE = "", "displacement", "linear"
BACKGROUND = (0.5,)


def derive(ground: Ground, raw: Any_ | None) -> Derived:
    """(H, W, 1) float32: 0.5 + d / (2 d_max).

    Facts: d_max in scene units; the low's subdivision and triangles; mean and 95th percentile of the distance along the
    rays to the sculpt, from the low and from the displaced low.
    """
    relief, low, cast = ground.assembly.relief, ground.low, ground.cast
    assert relief is not None
    values, g = np.zeros(cast.covered.shape, np.float32), low.grid
    own = np.ascontiguousarray(relief.offsets[low.triangles])
    _interpolate(cast.low_triangle, cast.sample, g.corners, g.side, g.shift, own, values)
    image, facts = signed(values, cast.covered, ground.recipe.displacement.range, 100.0)
    how = ground.recipe.subdivision
    facts |= {
        "unit": "scene units", "scheme": how.scheme, "levels": how.levels if how.scheme != "none" else 0,
        "triangles": relief.triangles, "distance_before": list(relief.before), "distance_after": list(relief.after),
    }  # fmt: skip
    return Derived(image, facts, values[..., None].copy)


@numba.njit(cache=True, nogil=True, parallel=True)
def _interpolate(low_triangle, sample, corners, side, shift, own, out):  # type: ignore[no-untyped-def]
    """Values at a triangle's corners (P, 3), at every texel."""
    height, width = low_triangle.shape
    for y in numba.prange(height):
        for x in range(width):
            t = low_triangle[y, x]
            if t >= 0:
                b0, b1, b2 = texel_barycentrics(corners, t, x, y, sample[y, x], side, shift)
                out[y, x] = b0 * own[t, 0] + b1 * own[t, 1] + b2 * own[t, 2]
