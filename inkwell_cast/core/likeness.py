"""Likeness: how close the low with its written map is to the sculpt.

For each texel that struck the sculpt, the angle between the sculpt's shading normal and the normal that the written
picture gives back through the basis, so that quantisation counts.
"""

import numba
import numpy as np
from pydantic import BaseModel

from .arrays import F32
from .cast import Cast


class Likeness(BaseModel):
    """Angles in degrees; shares from 0 to 1 of the texels that struck the sculpt."""

    mean: float
    median: float
    p95: float
    under_1: float
    under_5: float


def angles(cast: Cast, given_back: F32) -> F32:
    """Angle in degrees at every texel, (H, W) float32; NaN where no ray struck. `given_back` as of `Map.read_back`."""
    out = np.empty(cast.struck.shape, np.float32)
    _angles(cast.struck, cast.normal, given_back, out)
    return out


def likeness(cast: Cast, given_back: F32) -> Likeness | None:
    """The figures for a whole sheet; None where nothing was struck."""
    found = angles(cast, given_back)
    found = found[~np.isnan(found)]
    if not len(found):
        return None
    median, p95 = np.percentile(found, [50, 95])
    return Likeness(
        mean=float(found.mean(dtype=np.float64)),
        median=float(median),
        p95=float(p95),
        under_1=float((found < 1).mean()),
        under_5=float((found < 5).mean()),
    )


@numba.njit(cache=True, nogil=True, parallel=True)
def _angles(struck, normal, given_back, out):  # type: ignore[no-untyped-def]
    height, width = struck.shape
    for y in numba.prange(height):
        for x in range(width):
            if struck[y, x] == 0:
                out[y, x] = np.nan
                continue
            ax, ay, az = np.float64(normal[y, x, 0]), np.float64(normal[y, x, 1]), np.float64(normal[y, x, 2])
            bx, by, bz = given_back[y, x, 0], given_back[y, x, 1], given_back[y, x, 2]
            cx, cy, cz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
            sine = np.sqrt(cx * cx + cy * cy + cz * cz)
            out[y, x] = np.degrees(np.arctan2(sine, ax * bx + ay * by + az * bz))
