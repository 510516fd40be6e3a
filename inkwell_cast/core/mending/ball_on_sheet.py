"""A ball in space on a sheet of the low: which tiles it touches, and how deep in it each texel lies."""

import numpy as np

from ..base.array_types import F32, F64, I64, Bool
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.records import Record, view
from ..cast.context import Context
from ..cast.partial_rebake import tiles_of
from ..cast.texel import place_at, triangle_at
from ..uv.rasterise import tile_box


def tiles_in(context: Context, centre: Vector, radius: float) -> I64:
    """The tiles that the low may touch inside a ball; radius in scene units."""
    points = context.rays.points.astype(np.float64)
    middle = points.mean(axis=1)
    size = np.linalg.norm(points - middle[:, None], axis=2).max(axis=1, initial=0)
    near: Bool = np.linalg.norm(middle - np.array(centre), axis=1) <= size * 1.001 + radius
    return tiles_of(context.low.grid, near)


def share_of_radius(context: Context, tiles: I64, centre: Vector, radius: float, share: F32) -> None:
    """Write into share (H, W) how far from the middle of a ball each texel of some tiles lies, in radii."""
    low, cast, rays = context.low, context.cast, context.rays
    _measure(tiles, np.array(centre), radius, low.record, cast.record, rays.record, share)


@kernel
def _measure(tiles: I64, centre: F64, radius: float, low: Record, cast: Record, rays: Record, share: F32) -> None:
    grid = view(low, "grid")
    for tile in tiles:
        x0, y0, columns, rows = tile_box(tile, grid)
        for y in range(y0, y0 + rows):
            for x in range(x0, x0 + columns):
                t = triangle_at(x, y, cast)
                if t >= 0:
                    px, py, pz = place_at(x, y, t, low, cast, rays)
                    away = (px - centre[0]) ** 2 + (py - centre[1]) ** 2 + (pz - centre[2]) ** 2
                    share[y, x] = np.sqrt(away) / radius
