"""The kernel of a cast: samples of the sheet become rays, rays become hits.

One kernel makes each ray, traces it and keeps what it found; tiles are independent, so the result does not depend on
how many threads there are or in which order they work. Rays go in packets of sixteen that start close to each other:
those of a cell of a few texels, which never reaches beyond a tile, so that the same packets are made whenever a tile
is cast. Rays of places that a mend changes, and those that are left over, go one by one.

Adaptive sampling traces four samples of a texel first, on a turned square. Where all of its samples lie on the low and
those four struck the same object of the sculpt, with normals that lean evenly and no jump in depth, or nothing, the
rest would change nothing to be seen and is left out.
"""

from typing import Any

import numpy as np

from ..base.array_types import I32, I64
from ..base.errors import Cancelled
from ..base.kernel_types import Hit
from ..base.kernels import kernel
from ..base.progress import Cancel, ShareDone
from ..base.records import Record, view
from ..base.threads import in_batches
from ..piece.low_on_sheet import Low
from ..piece.sculpt import Sculpt
from ..rays.ray import Rays, make_ray
from ..uv.rasterise import fill_tile, sample_barycentrics, tile_box
from .adaptive import AGREE, BENT, STEEP, all_on_low, distance_apart, sample_order
from .hits import MISSED, OFF, Cast, Hits
from .ray_queue import add, empty_cell, trace_waiting
from .shading_normal import shading_normal


def cast_rays(
    low: Low,
    rays: Rays,
    sculpt: Sculpt,
    cast: Cast,
    hits: Hits,
    progress: ShareDone,
    cancelled: Cancel,
    adaptive: bool = False,
) -> None:
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
        cast_tiles(first, last, contested, *records, empty_cell(order, few))

    in_batches(len(hits.tiles), work, progress, cancelled)
    cast.shared[hits.tiles] = contested


@kernel(error_model="numpy")
def cast_tiles(
    first: int,
    last: int,
    contested: I64,
    grid: Record,
    rays: Record,
    sculpt: Record,
    cast: Record,
    hits: Record,
    cell: Record,
) -> None:
    """Cast the rays of tiles `first` to `last` of the hits; see `Cast` and `Hits` for what is written.

    contested (K,) int64 counts samples that more than one triangle asked for; cell is of `empty_cell`. The others are
    records too.
    """
    tiles, begins = view(hits, "tiles"), view(hits, "starts")
    corners = view(grid, "corners")
    starts, listed = view(grid, "starts"), view(grid, "listed")
    side, across = grid.side, cell.across
    for k in range(first, last):
        x0, y0, columns, rows = tile_box(tiles[k], grid)
        owner = np.empty((rows * side, columns * side), np.int32)
        triangles = listed[starts[tiles[k]] : starts[tiles[k] + 1]]
        contested[k] = fill_tile(owner, x0 * side, y0 * side, side, grid.shift, corners, triangles)
        for y in range(0, rows, across):
            for x in range(0, columns, across):
                at = x0 + x, y0 + y, min(across, columns - x), min(across, rows - y), x * side, y * side, begins[k]
                _cast_cell(at, owner, grid, rays, sculpt, cast, hits, cell)


@kernel(error_model="numpy")
def _cast_cell(
    at: tuple[int, int, int, int, int, int, int],
    owner: I32,
    grid: Record,
    rays: Record,
    sculpt: Record,
    cast: Record,
    hits: Record,
    cell: Record,
) -> None:
    """Cast the rays of a cell.

    at: column, row, columns and rows of its texels; column and row of its first sample in `owner (h, w) int32`, the
    triangles of the tile's samples; and the place of the tile's first sample in the hits.
    """
    x, y, columns, rows, left, top, begin = at
    side, agreed = grid.side, 0
    _trace_samples(at, owner, 0, cell.few, agreed, grid, rays, sculpt, cell)
    if cell.few < cell.samples:
        for c in range(columns * rows):
            i, j = c % columns, c // columns
            if _agree(c, (x + i, y + j, left + i * side, top + j * side), owner, grid, rays, sculpt, cell):
                agreed |= 1 << c
        _trace_samples(at, owner, cell.few, cell.samples, agreed, grid, rays, sculpt, cell)
    for c in range(columns * rows):
        i, j = c % columns, c // columns
        _keep_samples(c, (x + i, y + j, left + i * side, top + j * side, begin), owner, sculpt, cast, hits, cell, side)


@kernel(error_model="numpy")
def _trace_samples(
    at: tuple[int, int, int, int, int, int, int],
    owner: I32,
    first: int,
    last: int,
    agreed: int,
    grid: Record,
    rays: Record,
    sculpt: Record,
    cell: Record,
) -> None:
    """Trace samples `first` to `last` of every texel of a cell, but of those whose bit of `agreed` is set."""
    x, y, columns, rows, left, top, _ = at
    side, order, struck = grid.side, cell.order, cell.struck
    for c in range(columns * rows):
        column, row = c % columns, c // columns
        for s in range(first, last):
            i, j, n = order[s, 0], order[s, 1], c * cell.samples + s
            t = owner[top + row * side + j, left + column * side + i]
            struck[n] = OFF
            if t < 0 or agreed >> c & 1:
                continue
            b0, b1, b2 = sample_barycentrics(t, x + column, y + row, i, j, grid)
            add(t, make_ray(t, b0, b1, b2, rays), n, cell, rays, sculpt)
    trace_waiting(cell, sculpt)


@kernel(error_model="numpy")
def _agree(
    c: int, where: tuple[int, int, int, int], owner: I32, grid: Record, rays: Record, sculpt: Record, cell: Record
) -> bool:
    """Whether the first samples of texel c of a cell show that the others would change nothing.

    where: its column and row on the sheet, and its first sample's in `owner`.
    """
    if not all_on_low(owner, where[2], where[3], grid.side):
        return False
    objects = view(sculpt, "objects")
    count, lowest, highest, lean, thing = 0, 1e30, -1e30, 1.0, -1
    ax = ay = az = x = y = z = 0.0
    for n in range(c * cell.samples, c * cell.samples + cell.few):
        hit, height = cell.struck[n], cell.height[n]
        if hit < 0:
            continue
        nx, ny, nz = shading_normal(hit, cell.u[n], cell.v[n], sculpt)
        if count == 0:
            thing, ax, ay, az = objects[hit], nx, ny, nz
        if objects[hit] != thing:
            return False
        lean = min(lean, nx * ax + ny * ay + nz * az)
        side = 1.0 if count in (0, 3) else -1.0  # of the second difference
        x, y, z = x + side * nx, y + side * ny, z + side * nz
        lowest, highest = min(lowest, height), max(highest, height)
        count += 1
    if count == 0:
        return True
    if count < cell.few or lean <= AGREE or x * x + y * y + z * z >= BENT * BENT:
        return False
    return highest - lowest < STEEP * distance_apart(where, owner, cell.order, grid, rays)


@kernel(error_model="numpy")
def _keep_samples(
    c: int,
    where: tuple[int, int, int, int, int],
    owner: I32,
    sculpt: Record,
    cast: Record,
    hits: Record,
    cell: Record,
    side: int,
) -> None:
    """Keep what the samples of texel c of a cell struck.

    where: its column and row on the sheet, its first sample's in `owner`, and the place of the tile's first sample.
    """
    x, y, left, top, begin = where
    triangle = view(hits, "triangle")
    uv = view(hits, "uv")
    on_low, count, nearest, order = 0, 0, 1 << 30, cell.order
    sum_x = sum_y = sum_z = sum_h = 0.0
    for s in range(cell.samples):
        i, j, k = order[s, 0], order[s, 1], c * cell.samples + s
        n, hit = begin + (top + j) * owner.shape[1] + left + i, cell.struck[k]
        triangle[n] = hit
        if hit == OFF:
            continue
        on_low += 1
        off_centre = (2 * i + 1 - side) ** 2 + (2 * j + 1 - side) ** 2
        if off_centre < nearest:
            nearest = off_centre
            _keep_nearest(x, y, owner[top + j, left + i], j * side + i, hit, cast)
        if hit == MISSED:
            continue
        u, v = cell.u[k], cell.v[k]
        uv[n, 0], uv[n, 1] = np.uint16(u * 65535 + 0.5), np.uint16(v * 65535 + 0.5)
        nx, ny, nz = shading_normal(hit, u, v, sculpt)
        count += 1
        sum_x += nx
        sum_y += ny
        sum_z += nz
        sum_h += cell.height[k]
    _keep_texel(x, y, on_low, count, (sum_x, sum_y, sum_z, sum_h), cast)


@kernel(inline="always")
def _keep_nearest(x: int, y: int, t: int, sample: int, hit: Hit, cast: Record) -> None:
    """The sample nearest to a texel's centre, its triangle of the low and what it struck."""
    view(cast, "low_triangle")[y, x] = t
    view(cast, "sample")[y, x] = sample
    view(cast, "hit_triangle")[y, x] = hit


@kernel(inline="always")
def _keep_texel(x: int, y: int, on_low: int, struck: int, sums: Any, cast: Record) -> None:
    """Counts and means of a texel; sums are those of normals (3) and heights over its hits."""
    view(cast, "covered")[y, x] = on_low
    view(cast, "struck")[y, x] = struck
    if struck:
        normal = view(cast, "normal")
        normal[y, x, 0], normal[y, x, 1], normal[y, x, 2] = sums[0] / struck, sums[1] / struck, sums[2] / struck
        view(cast, "height")[y, x] = sums[3] / struck
