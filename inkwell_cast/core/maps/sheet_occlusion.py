"""Occlusion without rays: from the heights and normals around a texel on the sheet, for a quick look at grooves.

In a slice through the normal the neighbours' points of the sculpt stand up to some elevation a over the tangent plane;
of a cosine-weighted sky sin^2 a is hidden. The mean over slices is the occlusion of a height field (after L. Bavoil and
M. Sainz, "Image-space horizon-based ambient occlusion", 2009). What lies on another island is not seen.
"""

import numba
import numpy as np

from ..arrays import Any_
from ..denoise import islands_on, points_of, unit_normals
from ..ground import Ground
from .derived import Derived

KEY, LABEL = "sheet_occlusion", "Occlusion, quick"
REASON = "Shade in grooves from heights and normals on the sheet; takes no rays and sees no other part."
RAW, GROUP, SPACE = "", "sheet_occlusion", "linear"
BACKGROUND = (1.0,)
SLICES, STEPS = 16, 12


def derive(ground: Ground, raw: Any_ | None) -> Derived:
    """(H, W, 1) float32: the free share, 0 to 1, to the power of the contrast."""
    own, cast = ground.recipe.sheet_occlusion, ground.cast
    normal = unit_normals(ground)
    free = np.ones(cast.covered.shape, np.float32)
    radius = max(own.radius / 100 * ground.low.grid.width, 1.5)
    _look(radius, cast.struck, cast.low_triangle, islands_on(ground), normal, points_of(ground), free)
    return Derived(free[..., None] ** np.float32(own.contrast))


@numba.njit(cache=True, nogil=True, parallel=True)
def _look(radius, struck, low_triangle, island, normal, points, free):  # type: ignore[no-untyped-def]
    height, width = free.shape
    for y in numba.prange(height):
        for x in range(width):
            if struck[y, x] == 0:
                continue
            own, hidden = island[low_triangle[y, x]], 0.0
            for k in range(SLICES):
                a = 2 * np.pi * (k + 0.5) / SLICES
                dx, dy, highest = np.cos(a), np.sin(a), 0.0
                for step in range(1, STEPS + 1):
                    share = (step / STEPS) ** 1.5  # closer ones matter more
                    reach = max(share * radius, np.float64(step)) if step <= 2 else share * radius
                    u, v = int(np.floor(x + 0.5 + reach * dx)), int(np.floor(y + 0.5 + reach * dy))
                    if u < 0 or v < 0 or u >= width or v >= height or (u == x and v == y) or struck[v, u] == 0:
                        continue
                    if island[low_triangle[v, u]] != own:
                        break
                    up, away = 0.0, 0.0
                    for c in range(3):
                        d = points[v, u, c] - points[y, x, c]
                        up += d * normal[y, x, c]
                        away += d * d
                    if up > 0 and away > 0:
                        highest = max(highest, up * up / away)
                hidden += highest
            free[y, x] = 1 - hidden / SLICES
