"""Smoothing what few rays leave rough: around every texel a plane is laid through the values of its neighbours.

The plane is linear in what can be known without rays: place and normal of the sculpt, and how much of the sky the sheet
itself says is hidden, near by and further off. So it follows grooves and edges instead of washing them out. First-order
regression after B. Bitterli et al., "Nonlinearly Weighted First-order Regression for Denoising Monte Carlo
Renderings", EGSR 2016; here the rays that are denoised take no part in the weights. Neighbours count on the same island
only, and the more the closer they lie to the tangent plane and the more their normals agree.
"""

import numpy as np

from ..base.array_types import F32, F64, I32, U8
from ..base.kernels import kernel
from ..base.progress import Cancel, ShareDone
from ..base.threads import in_batches
from ..cast.context import Context
from ..cast.sheet_surroundings import open_skies, surroundings_of

REACH = 7  # texels
HIDDEN_WITHIN = (3.0, 8.0)  # texels: radii of what the sheet says is hidden
FEATURES = 7 + len(HIDDEN_WITHIN)  # with the constant
RIDGE = 1e-4  # share of the weights: what holds back features that hardly vary
SHARP = 4.0  # power of the normals' cosine
OFF_PLANE = 3.0  # mean steps between texels: how far off the tangent plane a neighbour may lie


def denoised(values: F32, context: Context, progress: ShareDone, cancelled: Cancel) -> F32:
    """Values (H, W) from 0 to 1 of a texel's rays, smoothed; texels that struck nothing stay. Raises Cancelled."""
    around = surroundings_of(context, REACH + max(HIDDEN_WITHIN))
    given = np.ascontiguousarray(around.with_margin(values), np.float32)
    out, hidden = given.copy(), open_skies(around, HIDDEN_WITHIN)
    where = around.struck, around.low_triangle, around.island

    def work(first: int, last: int) -> None:
        _fit(first, last, where, around.normal, around.points, hidden, given, out)

    in_batches(len(out), work, progress, cancelled)
    return np.ascontiguousarray(around.inner(out))


@kernel
def _fit(
    first: int, last: int, where: tuple[U8, I32, I32], normal: F32, points: F32, hidden: F32, values: F32, out: F32
) -> None:
    """Rows first to last of the smoothed values; `where` texels have struck, on which triangle, in which island."""
    (struck, low_triangle, island), (height, width) = where, values.shape
    matrix, right, f = np.zeros((FEATURES, FEATURES)), np.zeros(FEATURES), np.zeros(FEATURES)
    for y in range(first, last):
        for x in range(width):
            if struck[y, x] == 0:
                continue
            island_here = island[low_triangle[y, x]]
            step = _step(y, x, island_here, struck, low_triangle, island, points)
            if step == 0:
                continue
            matrix[:], right[:] = 0, 0
            for v in range(max(y - REACH, 0), min(y + REACH + 1, height)):
                for u in range(max(x - REACH, 0), min(x + REACH + 1, width)):
                    if struck[v, u] == 0 or island[low_triangle[v, u]] != island_here:
                        continue
                    cosine = off = 0.0
                    for c in range(3):
                        cosine += normal[y, x, c] * normal[v, u, c]
                        off += (points[v, u, c] - points[y, x, c]) * normal[y, x, c]
                    if cosine <= 0.2:
                        continue
                    apart = ((u - x) ** 2 + (v - y) ** 2) / (REACH * REACH) + (off / (step * OFF_PLANE)) ** 2
                    weight = cosine**SHARP * np.exp(-apart)
                    if weight < 1e-4:
                        continue
                    f[0] = 1
                    for c in range(3):
                        f[1 + c] = (points[v, u, c] - points[y, x, c]) / (step * REACH)
                        f[4 + c] = normal[v, u, c] - normal[y, x, c]
                    for c in range(hidden.shape[2]):
                        f[7 + c] = hidden[v, u, c] - hidden[y, x, c]
                    for a in range(FEATURES):
                        right[a] += weight * f[a] * values[v, u]
                        for b in range(a + 1):
                            matrix[a, b] += weight * f[a] * f[b]
            for a in range(1, FEATURES):
                matrix[a, a] += RIDGE * matrix[0, 0]
            if _solve(matrix, right):
                out[y, x] = min(max(right[0], 0.0), 1.0)


@kernel
def _step(y: int, x: int, island_here: int, struck: U8, low_triangle: I32, island: I32, points: F32) -> float:
    """Mean way on the sculpt from a texel to those beside it on its island, 0 where there are none."""
    height, width = struck.shape
    total, count = 0.0, 0
    for v in range(max(y - 1, 0), min(y + 2, height)):
        for u in range(max(x - 1, 0), min(x + 2, width)):
            if (v == y and u == x) or struck[v, u] == 0 or island[low_triangle[v, u]] != island_here:
                continue
            square = 0.0
            for c in range(3):
                square += (points[v, u, c] - points[y, x, c]) ** 2
            total += np.sqrt(square)
            count += 1
    return total / count if count else 0.0


@kernel
def _solve(matrix: F64, right: F64) -> bool:
    """Solve a symmetric system, given by its lower half, in place by Cholesky; false where it has no answer."""
    size = len(right)
    for a in range(size):
        for b in range(a + 1):
            s = matrix[a, b]
            for k in range(b):
                s -= matrix[a, k] * matrix[b, k]
            if a == b:
                if s <= 1e-12:
                    return False
                matrix[a, a] = np.sqrt(s)
            else:
                matrix[a, b] = s / matrix[b, b]
    for a in range(size):
        for k in range(a):
            right[a] -= matrix[a, k] * right[k]
        right[a] /= matrix[a, a]
    for a in range(size - 1, -1, -1):
        for k in range(a + 1, size):
            right[a] -= matrix[k, a] * right[k]
        right[a] /= matrix[a, a]
    return True
