"""The kernel of a cast: samples of the sheet become rays, rays become hits.

One kernel makes each ray, traces it and keeps what it found; tiles are independent, so the result does not depend
on how many threads there are or in which order they work.

Adaptive sampling traces four samples of a texel first, on a turned square. Where all of its samples lie on the low and
those four struck the same object of the sculpt, with normals that agree and no jump in depth, or nothing, the rest
would change nothing to be seen and is left out.
"""

from collections.abc import Callable

import numba
import numpy as np

from ..base.borrowed_arrays import block
from ..base.errors import Cancelled
from ..base.threads import in_batches
from ..piece.low_on_sheet import Low
from ..piece.sculpt import Sculpt
from ..rays.ray import Rays, make_ray
from ..uv.rasterise import fill_tile, sample_barycentrics, tile_box
from .adaptive import AGREE, STEEP, all_on_low, distance_apart, sample_order
from .hits import MISSED, OFF, Cast, Hits
from .shading_normal import shading_normal
from .trace import trace


def cast_rays(
    low: Low, rays: Rays, sculpt: Sculpt, cast: Cast, hits: Hits, progress: Callable[[float], None],
    cancelled: Callable[[], bool], adaptive: bool = False,
) -> None:  # fmt: skip
    """Project the sculpt onto some tiles of a sheet of the low, into `cast` and `hits`.

    `adaptive` leaves samples out that the first four of a texel make needless. Raises Cancelled soon after
    `cancelled()` turns true.
    """
    records = low.grid.record, rays.record, sculpt.record, cast.record, hits.record
    if cancelled():
        raise Cancelled
    contested = np.zeros(len(hits.tiles), np.int64)
    order, few = sample_order(low.grid.side, adaptive)

    def work(first: int, last: int) -> None:
        cast_tiles(first, last, contested, *records, order, few)

    in_batches(len(hits.tiles), work, progress, cancelled)
    cast.shared[hits.tiles] = contested


@numba.njit(cache=True, nogil=True, error_model="numpy")
def cast_tiles(first, last, contested, grid, rays, sculpt, cast, hits, order, few):  # type: ignore[no-untyped-def]
    """Cast the rays of tiles `first` to `last` of the hits; see `Cast` and `Hits` for what is written.

    contested (K,) int64 counts samples that more than one triangle asked for; order (S, 2) int64 are the samples of a
    texel in turn, column and row, and after `few` of them the rest may be left out. The others are records.
    """
    tiles, begins = block(hits.tiles, hits.tiles_count, np.int64), block(hits.starts, hits.starts_count, np.int64)
    corners = block(grid.corners, (grid.corners_count, 3, 2), np.int64)
    starts, listed = block(grid.starts, grid.starts_count, np.int64), block(grid.listed, grid.listed_count, np.int32)
    side = grid.side
    for k in range(first, last):
        tile = tiles[k]
        x0, y0, columns, rows = tile_box(tile, grid)
        owner = np.empty((rows * side, columns * side), np.int32)
        triangles = listed[starts[tile] : starts[tile + 1]]
        contested[k] = fill_tile(owner, x0 * side, y0 * side, side, grid.shift, corners, triangles)
        for y in range(rows):
            for x in range(columns):
                where = (x0 + x, y0 + y, x * side, y * side, begins[k])
                _cast_texel(where, owner, grid, rays, sculpt, cast, hits, order, few)


@numba.njit(cache=True, nogil=True, inline="always")
def _cast_texel(where, owner, grid, rays, sculpt, cast, hits, order, few):  # type: ignore[no-untyped-def]
    """Cast the rays of one texel.

    where: its column and row on the sheet, its first sample's in `owner (h, w) int32`, the triangles of the tile's
    samples, and the place of the tile's first sample in the hits.
    """
    x, y, left, top, begin = where
    side = grid.side
    objects = block(sculpt.objects, sculpt.objects_count, np.int32)
    struck_at = block(hits.triangle, hits.triangle_count, np.int32)
    on_low, struck, nearest = 0, 0, 1 << 30
    sum_x = sum_y = sum_z = sum_h = 0.0
    looks = few < side * side
    lowest, highest, lean, first_object, agreed = 1e30, -1e30, 1.0, -1, looks and all_on_low(owner, left, top, side)
    first_x = first_y = first_z = 0.0
    for s in range(side * side):
        if s == few and agreed:
            agreed = struck == 0 or (struck == few and lean > AGREE)
            if struck and agreed:
                agreed = highest - lowest < STEEP * distance_apart(where, owner, order, grid, rays)
        i, j = order[s, 0], order[s, 1]
        t = owner[top + j, left + i]
        n = begin + (top + j) * owner.shape[1] + left + i
        if (agreed and s >= few) or t < 0:
            struck_at[n] = OFF
            continue
        on_low += 1
        b0, b1, b2 = sample_barycentrics(t, x, y, i, j, grid)
        ray = make_ray(t, b0, b1, b2, rays)
        length, u, v, hit = trace(t, ray, rays, sculpt)
        _keep_hit(n, hit, u, v, hits)
        off_centre = (2 * i + 1 - side) ** 2 + (2 * j + 1 - side) ** 2
        if off_centre < nearest:
            nearest = off_centre
            _keep_nearest(x, y, t, j * side + i, hit, cast)
        if hit >= 0:
            nx, ny, nz = shading_normal(hit, u, v, sculpt)
            height = ray[6] - length
            if looks and s < few:
                if struck == 0:
                    first_object, first_x, first_y, first_z = objects[hit], nx, ny, nz
                agreed &= objects[hit] == first_object
                lean = min(lean, nx * first_x + ny * first_y + nz * first_z)
                lowest, highest = min(lowest, height), max(highest, height)
            struck += 1
            sum_x += nx
            sum_y += ny
            sum_z += nz
            sum_h += height
    _keep_texel(x, y, on_low, struck, (sum_x, sum_y, sum_z, sum_h), cast)


@numba.njit(cache=True, nogil=True, inline="always")
def _keep_hit(n, hit, u, v, hits):  # type: ignore[no-untyped-def]
    """Sample n struck triangle `hit` at barycentrics u, v; -1 for nothing."""
    triangle = block(hits.triangle, hits.triangle_count, np.int32)
    triangle[n] = MISSED
    if hit >= 0:
        uv = block(hits.uv, (hits.uv_count, 2), np.uint16)
        triangle[n] = hit
        uv[n, 0], uv[n, 1] = np.uint16(u * 65535 + 0.5), np.uint16(v * 65535 + 0.5)


@numba.njit(cache=True, nogil=True, inline="always")
def _keep_nearest(x, y, t, sample, hit, cast):  # type: ignore[no-untyped-def]
    """The sample nearest to a texel's centre, its triangle of the low and what it struck."""
    shape = (cast.rows, cast.columns)
    block(cast.low_triangle, shape, np.int32)[y, x] = t
    block(cast.sample, shape, np.uint8)[y, x] = sample
    block(cast.hit_triangle, shape, np.int32)[y, x] = hit


@numba.njit(cache=True, nogil=True, inline="always")
def _keep_texel(x, y, on_low, struck, sums, cast):  # type: ignore[no-untyped-def]
    """Counts and means of a texel; sums are those of normals (3) and heights over its hits."""
    shape = (cast.rows, cast.columns)
    block(cast.covered, shape, np.uint8)[y, x] = on_low
    block(cast.struck, shape, np.uint8)[y, x] = struck
    if struck:
        normal = block(cast.normal, (cast.rows, cast.columns, 3), np.float32)
        normal[y, x, 0], normal[y, x, 1], normal[y, x, 2] = sums[0] / struck, sums[1] / struck, sums[2] / struck
        block(cast.height, shape, np.float32)[y, x] = sums[3] / struck
