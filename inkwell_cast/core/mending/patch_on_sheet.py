"""A patch of the low on one of its sheets: which tiles it touches, and how deep in it each texel lies."""

import numpy as np

from ..base.array_types import F32, I64
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.records import Record, view
from ..cast.context import Context
from ..cast.partial_rebake import tiles_of
from ..cast.texel import place_at, triangle_at
from ..rays.along_surface import Spread, distance_along, spread_of
from ..uv.rasterise import tile_box


def patch_on(context: Context, centre: Vector, radius: float) -> tuple[Spread, I64]:
    """A patch over the triangles of a sheet, and the tiles that it may touch; radius in scene units."""
    ground = context.warm.ground(context.low.mesh)
    spread = spread_of(ground, np.array([[*centre, radius]])).on(context.low.triangles)
    return spread, tiles_of(context.low.grid, np.diff(spread.starts) > 0)


def share_of_radius(context: Context, spread: Spread, tiles: I64, radius: float, share: F32) -> None:
    """Write into share (H, W) how far from the middle of a patch each texel of some tiles lies, in radii."""
    low, cast, rays = context.low, context.cast, context.rays
    _measure(tiles, spread.record, radius, low.record, cast.record, rays.record, share)


@kernel
def _measure(tiles: I64, spread: Record, radius: float, low: Record, cast: Record, rays: Record, share: F32) -> None:
    grid, starts, parts = view(low, "grid"), view(spread, "starts"), view(spread, "parts")
    for tile in tiles:
        x0, y0, columns, rows = tile_box(tile, grid)
        for y in range(y0, y0 + rows):
            for x in range(x0, x0 + columns):
                t = triangle_at(x, y, cast)
                if t < 0:
                    continue
                share[y, x] = np.inf
                if starts[t] < starts[t + 1]:
                    px, py, pz = place_at(x, y, t, low, cast, rays)
                    share[y, x] = distance_along(parts[starts[t]], px, py, pz) / radius
