"""The cast: samples of the sheet become rays, rays become hits.

One kernel makes each ray, traces it and keeps what it found; tiles are independent, so the result does not depend
on how many threads there are or in which order they work.

Adaptive sampling traces four samples of a texel first, on a turned square. Where all of its samples lie on the low and
those four struck the same object of the sculpt, with normals that agree and no jump in depth, or nothing, the rest
would change nothing to be seen and is left out.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numba
import numpy as np

from .arrays import F32, F64, I32, I64, U8, U16
from .assembly import Sculpt
from .blocks import OMITS
from .embree import hit_along
from .errors import Cancelled
from .low import Low
from .pointers import unowned
from .rays import Rays, make_ray
from .room import filled, room
from .sheet import TILE, Grid, barycentrics, fill_tile
from .special import strike_beyond
from .threads import in_batches

MISSED, OFF = -1, -2
MOST_SAMPLES = 80_000_000  # kept: 8 bytes each
AT_ONCE = 20_000_000  # held while a sheet with more is worked through
AGREE = float(np.cos(np.radians(7.5)))  # normals that lean apart by more are worth more samples
STEEP = 3.0  # so are heights that differ by more than this many times the way between two samples
FIRST = {
    16: ((1, 0), (3, 1), (0, 2), (2, 3)),
    64: ((3, 1), (6, 3), (1, 4), (4, 6)),
}  # (column, row) of a texel's samples


@dataclass(frozen=True, slots=True)
class Hits:
    """What every sample of some tiles struck, tile after tile, each in rows of samples.

    tiles (K,) int64; starts (K + 1,) int64, where the samples of each begin. triangle (N,) int32 of the sculpt, or
    MISSED, or OFF where the sample lies on no island or was left out; uv (N, 2) uint16, its second and third
    barycentric in 65535ths.
    """

    tiles: I64
    starts: I64
    triangle: I32
    uv: U16


@dataclass(frozen=True, slots=True)
class Cast:
    """What the rays of a bake found, texel by texel; arrays are (H, W) with row 0 on top.

    low_triangle  int32, the row of `Low.triangles` at the texel, -1 where no island lies
    sample        uint8, the covered sample nearest to the texel's centre, counted in rows
    covered       uint8, samples of the texel that lie on the low
    struck        uint8, samples whose ray struck the sculpt
    normal        (H, W, 3) float32, mean of the sculpt's unit shading normals, in object space, not normalised
    height        float32, mean signed distance from low to sculpt, positive outside, scene units
    hit_triangle  int32, triangle of the sculpt struck by that nearest sample, -1 for a miss
    shared        (tiles,) int64, samples of each tile that more than one triangle asked for; `samples` are in a texel
    """

    low_triangle: I32
    sample: U8
    covered: U8
    struck: U8
    normal: F32
    height: F32
    hit_triangle: I32
    shared: I64
    samples: int

    @property
    def contested(self) -> int:
        """Texels' worth of samples that more than one triangle asked for."""
        return -(-int(self.shared.sum()) // self.samples)

    @property
    def texels(self) -> int:
        """Texels that lie on the low."""
        return int(np.count_nonzero(self.covered))

    @property
    def missed(self) -> int:
        """Texels on the low in which no ray struck the sculpt."""
        return int(np.count_nonzero((self.covered > 0) & (self.struck == 0)))


def bands_of(sheet: Grid, tiles: I64) -> list[I64]:
    """Tiles of a sheet; with more than `MOST_SAMPLES` samples they are cut into parts of about `AT_ONCE`."""
    each = TILE * TILE * sheet.side**2
    if len(tiles) * each <= MOST_SAMPLES:
        return [tiles]
    return np.array_split(tiles, -(-len(tiles) * each // AT_ONCE))


def empty_hits(sheet: Grid, tiles: I64) -> Hits:
    """Room for the samples of some tiles."""
    columns = np.minimum(TILE, sheet.width - tiles % sheet.tiles_across * TILE)
    rows = np.minimum(TILE, sheet.height - tiles // sheet.tiles_across * TILE)
    starts = np.concatenate([[0], np.cumsum(columns * rows * sheet.side**2)]).astype(np.int64)
    return Hits(tiles, starts, np.empty(starts[-1], np.int32), np.empty((int(starts[-1]), 2), np.uint16))


def empty_cast(sheet: Grid, on_disk: bool = False) -> Cast:
    shape = (sheet.height, sheet.width)
    return Cast(
        filled(shape, np.int32, -1, on_disk),
        room(shape, np.uint8, on_disk),
        room(shape, np.uint8, on_disk),
        room(shape, np.uint8, on_disk),
        room((*shape, 3), np.float32, on_disk),
        room(shape, np.float32, on_disk),
        filled(shape, np.int32, -1, on_disk),
        np.zeros(len(sheet.starts) - 1, np.int64),
        sheet.side**2,
    )


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


def sample_order(side: int, adaptive: bool) -> tuple[I64, int]:
    """The samples of a texel (S, 2), column and row, as they are traced in turn, and after how many to look."""
    every = [(column, row) for row in range(side) for column in range(side)]
    if not adaptive or side * side not in FIRST:
        return np.array(every, np.int64), side * side
    first = FIRST[side * side]
    return np.array([*first, *(place for place in every if place not in first)], np.int64), len(first)


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
                apart = _apart(owner, left, top, x, y, side, shift, corners, points, order)
                agreed = highest - lowest < STEEP * apart
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


@numba.njit(cache=True, nogil=True)
def _apart(owner, left, top, x, y, side, shift, corners, points, order):  # type: ignore[no-untyped-def]
    """How far apart the first two samples of a texel lie on the low."""
    half, square = np.int64(1) << (shift - 1), 0.0
    ax = ay = az = 0.0
    for s in range(2):
        i, j = order[s, 0], order[s, 1]
        t = owner[top + j, left + i]
        b0, b1, b2 = barycentrics(corners, t, ((x * side + i) << shift) + half, ((y * side + j) << shift) + half)
        px = b0 * points[t, 0, 0] + b1 * points[t, 1, 0] + b2 * points[t, 2, 0]
        py = b0 * points[t, 0, 1] + b1 * points[t, 1, 1] + b2 * points[t, 2, 1]
        pz = b0 * points[t, 0, 2] + b1 * points[t, 1, 2] + b2 * points[t, 2, 2]
        square = (px - ax) ** 2 + (py - ay) ** 2 + (pz - az) ** 2
        ax, ay, az = px, py, pz
    return np.sqrt(square)


@numba.njit(cache=True, nogil=True, inline="always")
def shading_normal(hit, u, v, values, rows):  # type: ignore[no-untyped-def]
    """The sculpt's unit normal at a hit, interpolated from its corners."""
    a, b, c = rows[hit, 0], rows[hit, 1], rows[hit, 2]
    w = 1 - u - v
    x = w * values[a, 0] + u * values[b, 0] + v * values[c, 0]
    y = w * values[a, 1] + u * values[b, 1] + v * values[c, 1]
    z = w * values[a, 2] + u * values[b, 2] + v * values[c, 2]
    square = x * x + y * y + z * z
    scale = 1 / np.sqrt(square) if square > 0 else 0.0
    return x * scale, y * scale, z * scale
