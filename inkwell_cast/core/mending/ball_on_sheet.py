"""A ball in space on a sheet of the low: which tiles it touches, and how deep in it each texel lies."""

from typing import Any

import numba
import numpy as np

from ..base.array_types import I64, Bool
from ..cast.context import Context
from ..cast.partial_rebake import tiles_of
from ..uv.rasterise import TILE, texel_barycentrics


def tiles_in(context: Context, centre: tuple[float, float, float], radius: float) -> I64:
    """The tiles that the low may touch inside a ball; radius in scene units."""
    points = context.rays.points.astype(np.float64)
    middle = points.mean(axis=1)
    size = np.linalg.norm(points - middle[:, None], axis=2).max(axis=1, initial=0)
    near: Bool = np.linalg.norm(middle - np.array(centre), axis=1) <= size * 1.001 + radius
    return tiles_of(context.low.grid, near)


def ball(context: Context, centre: tuple[float, float, float], radius: float) -> tuple[Any, ...]:
    """What the kernels below want to know of texels and of a ball."""
    cast, grid = context.cast, context.low.grid
    return (
        cast.low_triangle, cast.sample, grid.corners, grid.side, grid.shift, context.rays.points,
        np.array(centre), radius,
    )  # fmt: skip


@numba.njit(cache=True, nogil=True)
def place_of(y, x, t, sample, corners, side, shift, points):  # type: ignore[no-untyped-def]
    b0, b1, b2 = texel_barycentrics(corners, t, x, y, sample, side, shift)
    p = points[t]
    return (
        b0 * p[0, 0] + b1 * p[1, 0] + b2 * p[2, 0],
        b0 * p[0, 1] + b1 * p[1, 1] + b2 * p[2, 1],
        b0 * p[0, 2] + b1 * p[1, 2] + b2 * p[2, 2],
    )


@numba.njit(cache=True, nogil=True)
def measure(tiles, across, low_triangle, sample, corners, side, shift, points, centre, radius, share):  # type: ignore[no-untyped-def]
    """How far from the middle of a ball each texel of some tiles lies, in radii."""
    height, width = low_triangle.shape
    for tile in tiles:
        for y in range(tile // across * TILE, min((tile // across + 1) * TILE, height)):
            for x in range(tile % across * TILE, min((tile % across + 1) * TILE, width)):
                t = low_triangle[y, x]
                if t >= 0:
                    px, py, pz = place_of(y, x, t, sample[y, x], corners, side, shift, points)
                    away = (px - centre[0]) ** 2 + (py - centre[1]) ** 2 + (pz - centre[2]) ** 2
                    share[y, x] = np.sqrt(away) / radius
