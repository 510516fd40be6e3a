"""Smoothing what few rays leave rough: a filter that heeds what the rays struck.

Two passes of a B3-spline kernel with holes: H. Dammertz et al., "Edge-Avoiding A-Trous Wavelet Transform for fast
Global Illumination Filtering", HPG 2010. A neighbour counts where it lies on the same island, its sculpt's normal
agrees, and its point of the sculpt lies near the plane of the texel's own. Where the values themselves differ by more
than their noise explains, they differ for good.
"""

import numba
import numpy as np

from .arrays import F32, I32
from .edges import edges_of, islands_of
from .ground import Ground
from .room import in_bands
from .sheet import texel_barycentrics

PASSES = 2
SHARP = 24.0  # power of the normals' cosine
FLAT = 1.5  # texels: how far off the plane a neighbour's point may lie
NOISE = 2.5  # standard deviations


def denoised(values: F32, ground: Ground) -> F32:
    """Values (H, W) from 0 to 1 of a texel's rays, smoothed; texels that struck nothing stay."""
    cast, points, island = ground.cast, points_of(ground), islands_on(ground)
    normal = unit_normals(ground)
    out = values.astype(np.float32)
    variance = (out * (1 - out) / np.float32(ground.recipe.occlusion.rays)).astype(np.float32)
    for n in range(PASSES):
        smooth, spread = np.empty_like(out), np.empty_like(out)
        _pass(1 << n, cast.struck, cast.low_triangle, island, normal, points, out, variance, smooth, spread)
        out, variance = smooth, spread
    return out


def points_of(ground: Ground) -> F32:
    """Where the sculpt lies at each texel, (H, W, 3) scene units, by its height along the low's interpolated ray."""
    cast, grid, out = ground.cast, ground.low.grid, np.zeros(ground.cast.normal.shape, np.float32)
    _points(
        cast.low_triangle, cast.sample, cast.height, grid.corners, grid.side, grid.shift, ground.rays.points,
        ground.rays.offsets, out,
    )  # fmt: skip
    return out


def unit_normals(ground: Ground) -> F32:
    """The sculpt's mean normal at each texel, (H, W, 3), 1 long."""

    def unit(rows: F32) -> F32:
        return np.asarray(rows / np.maximum(np.linalg.norm(rows, axis=2, keepdims=True), 1e-20))

    return in_bands(unit, ground.cast.normal, 3)


def islands_on(ground: Ground) -> I32:
    """The island of each triangle of the sheet."""
    mesh = ground.assembly.low
    return islands_of(mesh.uvs[ground.recipe.sheet.channel].at_corners(), edges_of(mesh))[ground.low.triangles]


@numba.njit(cache=True, nogil=True, parallel=True)
def _points(low_triangle, sample, height, corners, side, shift, points, offsets, out):  # type: ignore[no-untyped-def]
    """Where each texel's hit lies: its height along the ray from the low."""
    rows, columns = low_triangle.shape
    for y in numba.prange(rows):
        for x in range(columns):
            t = low_triangle[y, x]
            if t < 0:
                continue
            b0, b1, b2 = texel_barycentrics(corners, t, x, y, sample[y, x], side, shift)
            dx = b0 * offsets[t, 0, 0] + b1 * offsets[t, 1, 0] + b2 * offsets[t, 2, 0]
            dy = b0 * offsets[t, 0, 1] + b1 * offsets[t, 1, 1] + b2 * offsets[t, 2, 1]
            dz = b0 * offsets[t, 0, 2] + b1 * offsets[t, 1, 2] + b2 * offsets[t, 2, 2]
            length = np.sqrt(dx * dx + dy * dy + dz * dz)
            s = height[y, x] / length if length > 0 else 0.0
            out[y, x, 0] = b0 * points[t, 0, 0] + b1 * points[t, 1, 0] + b2 * points[t, 2, 0] + s * dx
            out[y, x, 1] = b0 * points[t, 0, 1] + b1 * points[t, 1, 1] + b2 * points[t, 2, 1] + s * dy
            out[y, x, 2] = b0 * points[t, 0, 2] + b1 * points[t, 1, 2] + b2 * points[t, 2, 2] + s * dz


@numba.njit(cache=True, nogil=True, parallel=True)
def _pass(step, struck, low_triangle, island, normal, points, values, variance, out, spread):  # type: ignore[no-untyped-def]
    height, width = values.shape
    kernel = np.array([1 / 16, 1 / 4, 3 / 8, 1 / 4, 1 / 16])
    for y in numba.prange(height):
        for x in range(width):
            out[y, x], spread[y, x] = values[y, x], variance[y, x]
            if struck[y, x] == 0:
                continue
            own, total, sum_, squares = island[low_triangle[y, x]], 0.0, 0.0, 0.0
            mean_variance = _near(variance, struck, y, x)
            for j in range(-2, 3):
                for i in range(-2, 3):
                    v, u = y + j * step, x + i * step
                    if v < 0 or u < 0 or v >= height or u >= width or struck[v, u] == 0:
                        continue
                    if island[low_triangle[v, u]] != own:
                        continue
                    cosine = 0.0
                    for c in range(3):
                        cosine += normal[y, x, c] * normal[v, u, c]
                    if cosine <= 0:
                        continue
                    across, away = 0.0, 0.0
                    for c in range(3):
                        d = points[v, u, c] - points[y, x, c]
                        across += d * normal[y, x, c]
                        away += d * d
                    # the plane's tolerance is a share of the way between the two points
                    off = abs(across) / (np.sqrt(away) + 1e-30) if away > 0 else 0.0
                    weight = kernel[j + 2] * kernel[i + 2] * cosine**SHARP * np.exp(-((off * FLAT * 2) ** 2))
                    gap = abs(values[v, u] - values[y, x])
                    weight *= np.exp(-gap / (NOISE * np.sqrt(mean_variance) + 1e-4))
                    total += weight
                    sum_ += weight * values[v, u]
                    squares += weight * weight * variance[v, u]
            if total > 0:
                out[y, x], spread[y, x] = sum_ / total, squares / (total * total)


@numba.njit(cache=True, nogil=True)
def _near(variance, struck, y, x):  # type: ignore[no-untyped-def]
    """Mean variance around a texel: its own is known badly where all its rays agree."""
    height, width = variance.shape
    total, count = 0.0, 0
    for v in range(max(y - 1, 0), min(y + 2, height)):
        for u in range(max(x - 1, 0), min(x + 2, width)):
            if struck[v, u]:
                total += variance[v, u]
                count += 1
    return total / max(count, 1)
