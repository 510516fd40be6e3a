"""The cast: samples of the sheet become rays, rays become hits.

One kernel makes each ray, traces it and keeps what it found; tiles are independent, so the result does not depend
on how many threads there are or in which order they work.

Adaptive sampling traces four samples of a texel first, on a turned square. Where all of its samples lie on the low and
those four struck the same object of the sculpt, with normals that agree and no jump in depth, or nothing, the rest
would change nothing to be seen and is left out.
"""

from collections.abc import Callable

import numba
import numpy as np

from ..base.array_types import F64
from ..base.borrowed_arrays import unowned
from ..base.errors import Cancelled
from ..base.threads import in_batches
from ..piece.low_on_sheet import Low
from ..piece.sculpt import Sculpt
from ..rays.embree import hit_along
from ..rays.modifiers.blocks import OMITS
from ..rays.modifiers.special import strike_beyond
from ..rays.ray import Rays, make_ray
from ..uv.rasterise import TILE, barycentrics, fill_tile
from .adaptive import AGREE, STEEP, apart, sample_order
from .hits import MISSED, OFF, Cast, Hits
from .shading_normal import shading_normal


def cast_rays(
    low: Low, rays: Rays, sculpt: Sculpt, cast: Cast, hits: Hits, progress: Callable[[float], None],
    cancelled: Callable[[], bool], adaptive: bool = False,
) -> None:  # fmt: skip
    """Project the sculpt onto some tiles of a sheet of the low, into `cast` and `hits`.

    `adaptive` leaves samples out that the first four of a texel make needless. Raises Cancelled soon after
    `cancelled()` turns true.
    """
    normals, sheet = sculpt.mesh.normals, low.grid
    if normals is None:
        raise ValueError("cast_rays: the sculpt has no normals; call with_normals first")
    if cancelled():
        raise Cancelled
    contested = np.zeros(len(hits.tiles), np.int64)
    order, few = sample_order(sheet.side, adaptive)

    def work(first: int, last: int) -> None:
        cast_tiles(
            hits.tiles[first:last], contested[first:last], hits.starts[first:last],
            sheet.tiles_across, sheet.width, sheet.height, sheet.side, sheet.shift,
            sheet.corners, sheet.starts, sheet.listed,
            *rays.arrays, rays.pair, sculpt.tracers, sculpt.first, normals.values, normals.corners,
            cast.low_triangle, cast.sample, cast.covered, cast.struck, cast.normal, cast.height, cast.hit_triangle,
            hits.triangle, hits.uv, order, few, sculpt.mesh.objects,
        )  # fmt: skip

    in_batches(len(hits.tiles), work, progress, cancelled)
    cast.shared[hits.tiles] = contested


@numba.njit(cache=True, nogil=True, error_model="numpy")
def cast_tiles(  # type: ignore[no-untyped-def]
    tiles, contested, begins, across, width, height, side, shift, corners, starts, listed,
    points, offsets, inward, special, pair, tracers, firsts,
    high_normals, high_normal_rows, low_triangle, sample, covered, struck, normal, height_out, hit_triangle,
    sample_triangle, sample_uv, order, few, objects,
):  # fmt: skip
    """Cast the rays of some tiles; see `Cast` and `Hits` for the outputs."""
    order, objects = unowned(order), unowned(objects)
    sample_triangle, sample_uv = unowned(sample_triangle), unowned(sample_uv)
    corners, points, offsets = unowned(corners), unowned(points), unowned(offsets)
    inward, special, pair = unowned(inward), unowned(special), unowned(pair)
    tracers, firsts = unowned(tracers), unowned(firsts)
    high_normals, high_normal_rows = unowned(high_normals), unowned(high_normal_rows)
    low_triangle, sample, covered = unowned(low_triangle), unowned(sample), unowned(covered)
    struck, normal = unowned(struck), unowned(normal)
    height_out, hit_triangle = unowned(height_out), unowned(hit_triangle)
    for k in range(len(tiles)):
        tile = tiles[k]
        x0, y0 = (tile % across) * TILE, (tile // across) * TILE
        columns, rows = min(TILE, width - x0), min(TILE, height - y0)
        owner = np.empty((rows * side, columns * side), np.int32)
        triangles = listed[starts[tile] : starts[tile + 1]]
        contested[k] = fill_tile(owner, x0 * side, y0 * side, side, shift, corners, triangles)
        for y in range(rows):
            for x in range(columns):
                _cast_texel(
                    x0 + x, y0 + y, owner, x * side, y * side, side, shift, corners,
                    points, offsets, inward, special, pair, tracers, firsts, high_normals,
                    high_normal_rows, low_triangle, sample, covered, struck, normal, height_out, hit_triangle,
                    begins[k], sample_triangle, sample_uv, order, few, objects,
                )  # fmt: skip


@numba.njit(cache=True, nogil=True, inline="always")
def _cast_texel(  # type: ignore[no-untyped-def]
    x, y, owner, left, top, side, shift, corners,
    points, offsets, inward, special, pair, tracers, firsts, high_normals, high_normal_rows,
    low_triangle, sample, covered, struck, normal, height_out, hit_triangle, begin, sample_triangle, sample_uv,
    order, few, objects,
):  # fmt: skip
    half = np.int64(1) << (shift - 1)
    on_low, hits, nearest = 0, 0, 1 << 30
    sum_x = sum_y = sum_z = sum_h = 0.0
    looks = few < side * side
    lowest, highest, lean, first_object, agreed = 1e30, -1e30, 1.0, -1, looks
    first_x = first_y = first_z = 0.0
    if agreed:
        for j in range(side):
            for i in range(side):
                agreed &= owner[top + j, left + i] >= 0
    for s in range(side * side):
        if s == few and agreed:
            agreed = hits == 0 or (hits == few and lean > AGREE)
            if hits and agreed:
                way = apart(owner, left, top, x, y, side, shift, corners, points, order)
                agreed = highest - lowest < STEEP * way
        i, j = order[s, 0], order[s, 1]
        if agreed and s >= few:
            sample_triangle[begin + (top + j) * owner.shape[1] + left + i] = OFF
        else:
            t = owner[top + j, left + i]
            n = begin + (top + j) * owner.shape[1] + left + i
            if t < 0:
                sample_triangle[n] = OFF
                continue
            on_low += 1
            px, py = ((x * side + i) << shift) + half, ((y * side + j) << shift) + half
            b0, b1, b2 = barycentrics(corners, t, px, py)
            ox, oy, oz, dx, dy, dz, out, far = make_ray(t, b0, b1, b2, points, offsets, inward, special)
            p = pair[t]
            if special[t] & OMITS:
                length, u, v, hit = strike_beyond(
                    tracers[p, 0], tracers[p, 1], firsts[p], ox, oy, oz, dx, dy, dz, out, far, objects, special
                )  # fmt: skip
            else:
                length, u, v, hit = hit_along(tracers[p, 0], tracers[p, 1], ox, oy, oz, dx, dy, dz, far)
                if hit >= 0:
                    hit += firsts[p]
            sample_triangle[n] = MISSED
            if hit >= 0:
                sample_triangle[n] = hit
                sample_uv[n, 0], sample_uv[n, 1] = np.uint16(u * 65535 + 0.5), np.uint16(v * 65535 + 0.5)
            off_centre = (2 * i + 1 - side) ** 2 + (2 * j + 1 - side) ** 2
            if off_centre < nearest:
                nearest = off_centre
                low_triangle[y, x] = t
                sample[y, x] = j * side + i
                hit_triangle[y, x] = hit
            if hit >= 0:
                nx, ny, nz = shading_normal(hit, u, v, high_normals, high_normal_rows)
                if looks and s < few:
                    if hits == 0:
                        first_object, first_x, first_y, first_z = objects[hit], nx, ny, nz
                    agreed &= objects[hit] == first_object
                    lean = min(lean, nx * first_x + ny * first_y + nz * first_z)
                    lowest, highest = min(lowest, out - length), max(highest, out - length)
                hits += 1
                sum_x += nx
                sum_y += ny
                sum_z += nz
                sum_h += out - length
    covered[y, x] = on_low
    struck[y, x] = hits
    if hits:
        normal[y, x, 0], normal[y, x, 1], normal[y, x, 2] = sum_x / hits, sum_y / hits, sum_z / hits
        height_out[y, x] = sum_h / hits


def strike(
    rays: Rays, sculpt: Sculpt, triangle: int, start: F64, way: F64, out: float, far: float
) -> tuple[float, float, float, int]:  # fmt: skip
    """What the ray of a triangle strikes in a cast: length on it, u, v and triangle of the sculpt, -1 for nothing."""
    pair = int(rays.pair[triangle])
    found = strike_beyond(  # type: ignore[call-arg]
        *sculpt.tracers[pair], sculpt.first[pair], *start.tolist(), *way.tolist(), out, far, sculpt.mesh.objects,
        rays.special,
    )  # fmt: skip
    return float(found[0]), float(found[1]), float(found[2]), int(found[3])
