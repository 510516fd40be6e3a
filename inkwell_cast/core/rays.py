"""Rays: where they start, which way they go and how far, at any point of the low.

Reach and directions are interpolated from the corners of a face. A cage of another topology, pockets and nudges are
evaluated at the point itself, so they count inside a face too. `make_ray` is the one place that knows all of it.

What few triangles need lies in two flat arrays, `numbers` and `places`, handed on by address: a kernel that passes many
arrays through its inner loop spends more time on counting their references than on the ray.
"""

from dataclasses import dataclass

import numba
import numpy as np

from .arrays import F32, F64, I32, I64, Any_, Bool
from .embree import hit_along
from .pointers import as_float64, as_int64

OUT, IN, SMOOTH, ERASE = 0, 1, 2, 3
KINDS = ("out", "in", "smooth", "erase")
POCKETS, NUDGES, SURFACE = 1, 2, 4  # bits of `special`

# where things begin: in `numbers`
_POCKETS, _STROKES, _SEGMENTS, _CORNERS, _NORMALS, _BALLS, _NEAR = range(7)
# in `places`
_OWNER, _STARTS, _LISTED, _GRID, _FIRST, _LIMITED, _CELLS, _NEAREST, _TRACERS, _PAIR = range(7, 17)
_HEADER = 17


@dataclass(frozen=True, slots=True)
class Nudges:
    """Strokes over some triangles of the low.

    strokes (N, 4) float64: kind, radius, falloff, amount (scene units for out and in, else a share).
    segments (S, 7) float64: the two ends of a piece of a stroke, and the reach that a smoothing stroke draws to there.
    owner (S,) int32 is its stroke; starts (P + 1,) int64 and listed (L,) int32 say which segments touch a triangle.
    """

    strokes: F64
    segments: F64
    owner: I32
    starts: I64
    listed: I32


@dataclass(frozen=True, slots=True)
class Surface:
    """Cage meshes of another topology, made ready for some triangles of the low.

    grid (P,) int32: a triangle is looked up in grid x grid cells by its barycentrics b1 and b2; 0 where it has no such
    cage. first (P,) int64 is its first cell. limited (C,) bool marks cells where the cage only limits the length.
    starts (C + 1,) int64 and listed (L,) int32 name the cage triangles that can be nearest in a cell.
    corners and normals (K, 3, 3) float32 are those triangles with their averaged normals, balls (K, 4) float32 what
    holds each; tracers (pairs, 2) uint64 see them from both sides. A cage nearer than `near` lies on the low.
    """

    grid: I32
    first: I64
    limited: Bool
    starts: I64
    listed: I32
    corners: F32
    normals: F32
    balls: F32
    tracers: Any_
    near: float


@dataclass(frozen=True, slots=True)
class Rays:
    """Where the rays of some triangles of the low start and what they may strike.

    points and offsets (P, 3, 3) float32, from each corner to the cage; inward (P,) float32; pair (P,) int32 is the row
    of the sculpt's tracers. special (P + 2,) int64 says which of pockets, nudges and cage surfaces have their say in a
    triangle, and ends in the addresses of numbers (N,) float64 and places (M,) int64, which hold those.
    """

    points: F32
    offsets: F32
    inward: F32
    pair: I32
    special: I64
    numbers: F64
    places: I64

    @property
    def arrays(self) -> tuple[F32, F32, F32, I64]:
        """What `make_ray` takes after the barycentrics; it holds while these rays live."""
        return self.points, self.offsets, self.inward, self.special


def rays_through(
    points: F32, offsets: F32, inward: F32, pair: I32, pockets: F32, nudges: Nudges, surface: Surface
) -> Rays:
    """Rays of some triangles; pockets (K, 7): centre, radius, rim, outward and inward reach, scene units."""
    special = np.where(surface.grid > 0, SURFACE, 0) | np.where(np.diff(nudges.starts) > 0, NUDGES, 0)
    middle = points.mean(axis=1)
    size = np.linalg.norm(points - middle[:, None], axis=2).max(axis=1, initial=0)
    for pocket in pockets:
        near = np.linalg.norm(middle - pocket[:3], axis=1) <= size * 1.001 + pocket[3]
        special |= np.where(near, POCKETS, 0)
    numbers: list[Any_] = [pockets, nudges.strokes, nudges.segments, surface.corners, surface.normals, surface.balls]
    numbers += [np.array([surface.near])]
    places: list[Any_] = [
        nudges.owner,
        nudges.starts,
        nudges.listed,
        surface.grid,
        surface.first,
        surface.limited,
        surface.starts,
    ]
    places += [surface.listed, surface.tracers.view(np.int64), pair]
    sizes = [a.size for a in numbers], [a.size for a in places]
    header = np.concatenate([np.cumsum(sizes[0]) - sizes[0], np.cumsum(sizes[1]) - sizes[1] + _HEADER])
    own = np.concatenate([np.asarray(a, np.float64).reshape(-1) for a in numbers])
    held = np.concatenate([header, *(np.asarray(a, np.int64).reshape(-1) for a in places)])
    ends = [own.ctypes.data, held.ctypes.data]
    return Rays(points, offsets, inward, pair, np.concatenate([special, ends]).astype(np.int64), own, held)


def ray_at(rays: Rays, triangle: int, b: tuple[float, float, float]) -> tuple[F64, F64, float, float]:
    """Start (3,), direction (3,), distance from start to the low and length of one ray."""
    ray = make_ray(triangle, *b, *rays.arrays)
    return np.array(ray[:3]), np.array(ray[3:6]), float(ray[6]), float(ray[7])


def reach_at(rays: Rays, triangle: I64, b: F64) -> F32:
    """From the low to the cage at some places of it, vectors (N, 3) float32; b (N, 3) barycentrics."""
    return _reach_at(triangle, b, *rays.arrays)[:, :3]  # type: ignore[no-any-return]


def ends_at(rays: Rays, triangle: I64, b: F64) -> F32:
    """Where the rays through some places of the low start and end, (N, 2, 3) float32."""
    reach = _reach_at(triangle, b, *rays.arrays)
    low = np.einsum("nk,nkc->nc", b, rays.points[triangle])
    out, length = reach[:, :3], np.maximum(np.linalg.norm(reach[:, :3], axis=1, keepdims=True), 1e-30)
    return np.stack([low + out, low - out / length * reach[:, 3:]], axis=1).astype(np.float32)


@numba.njit(cache=True, nogil=True)
def _reach_at(triangle, b, points, offsets, inward, special):  # type: ignore[no-untyped-def]
    found = np.empty((len(triangle), 4), np.float32)
    for i in range(len(triangle)):
        ray = make_ray(triangle[i], b[i, 0], b[i, 1], b[i, 2], points, offsets, inward, special)
        for k in range(3):
            found[i, k] = -ray[3 + k] * ray[6]
        found[i, 3] = ray[7] - ray[6]
    return found


@numba.njit(cache=True, nogil=True, inline="always")
def make_ray(t, b0, b1, b2, points, offsets, inward, special):  # type: ignore[no-untyped-def]
    """Start, direction, distance from start to the low, and length of the ray through barycentrics b of triangle t."""
    ex = b0 * offsets[t, 0, 0] + b1 * offsets[t, 1, 0] + b2 * offsets[t, 2, 0]
    ey = b0 * offsets[t, 0, 1] + b1 * offsets[t, 1, 1] + b2 * offsets[t, 2, 1]
    ez = b0 * offsets[t, 0, 2] + b1 * offsets[t, 1, 2] + b2 * offsets[t, 2, 2]
    px = b0 * points[t, 0, 0] + b1 * points[t, 1, 0] + b2 * points[t, 2, 0]
    py = b0 * points[t, 0, 1] + b1 * points[t, 1, 1] + b2 * points[t, 2, 1]
    pz = b0 * points[t, 0, 2] + b1 * points[t, 1, 2] + b2 * points[t, 2, 2]
    out, below = np.sqrt(ex * ex + ey * ey + ez * ez), np.float64(inward[t])
    scale = 1 / out if out > 0 else 0.0
    ex, ey, ez = ex * scale, ey * scale, ez * scale
    if special[t]:
        ex, ey, ez, out, below = _special(t, b1, b2, px, py, pz, ex, ey, ez, out, below, special)
    return px + ex * out, py + ey * out, pz + ez * out, -ex, -ey, -ez, out, out + below


@numba.njit(cache=True, nogil=True)
def _special(t, b1, b2, px, py, pz, ex, ey, ez, out, below, special):  # type: ignore[no-untyped-def]
    """Direction, outward and inward reach where a cage surface, pockets or nudges have their say, in that order."""
    numbers = numba.carray(as_float64(special[-2]), 1 << 40)
    places, which = numba.carray(as_int64(special[-1]), 1 << 40), special[t]
    if which & SURFACE:
        ex, ey, ez, out = _through_surface(t, b1, b2, px, py, pz, ex, ey, ez, out, numbers, places)
    if which & POCKETS:
        out, below = _in_pockets(px, py, pz, out, below, numbers, places)
    if which & NUDGES:
        out = _nudged(t, px, py, pz, out, numbers, places)
    return ex, ey, ez, out, below


@numba.njit(cache=True, nogil=True)
def fade(share, rim):  # type: ignore[no-untyped-def]
    """Weight at a share of a radius: full inside, smoothly to nothing over the outermost `rim` of it."""
    if share >= 1:
        return 0.0
    if share <= 1 - rim:
        return 1.0
    s = (1 - share) / rim
    return s * s * (3 - 2 * s)


@numba.njit(cache=True, nogil=True)
def _in_pockets(x, y, z, out, inward, numbers, places):  # type: ignore[no-untyped-def]
    for k in range(places[_POCKETS], places[_STROKES], 7):
        dx, dy, dz = x - numbers[k], y - numbers[k + 1], z - numbers[k + 2]
        weight = fade(np.sqrt(dx * dx + dy * dy + dz * dz) / numbers[k + 3], numbers[k + 4])
        out += weight * (numbers[k + 5] - out)
        inward += weight * (numbers[k + 6] - inward)
    return out, inward


@numba.njit(cache=True, nogil=True)
def _nudged(t, x, y, z, out, numbers, places):  # type: ignore[no-untyped-def]
    """Outward reach at a place of triangle t after its strokes, in the order in which they were drawn."""
    before, listed, owner = out, places[_LISTED], places[_OWNER]
    i, end = places[places[_STARTS] + t], places[places[_STARTS] + t + 1]
    while i < end:
        stroke = places[owner + places[listed + i]]
        n = places[_STROKES] + 4 * stroke
        kind, radius, rim, amount = numbers[n], numbers[n + 1], numbers[n + 2], numbers[n + 3]
        weight = level = total = 0.0
        while i < end and places[owner + places[listed + i]] == stroke:
            s = places[_SEGMENTS] + 7 * places[listed + i]
            own = fade(_from_segment(x, y, z, s, numbers) / radius, rim)
            weight = max(weight, own)
            level += own * numbers[s + 6]
            total += own
            i += 1
        if kind == OUT:
            out += weight * amount
        elif kind == IN:
            out = max(out - weight * amount, 0.0)
        elif kind == SMOOTH and total > 0:
            out += weight * amount * (level / total - out)
        elif kind == ERASE:
            out += weight * amount * (before - out)
    return out


@numba.njit(cache=True, nogil=True)
def _from_segment(x, y, z, s, numbers):  # type: ignore[no-untyped-def]
    """Distance from the segment whose ends stand in `numbers` from s on."""
    ux, uy, uz = numbers[s + 3] - numbers[s], numbers[s + 4] - numbers[s + 1], numbers[s + 5] - numbers[s + 2]
    wx, wy, wz = x - numbers[s], y - numbers[s + 1], z - numbers[s + 2]
    square = ux * ux + uy * uy + uz * uz
    along = min(max((wx * ux + wy * uy + wz * uz) / square, 0.0), 1.0) if square > 0 else 0.0
    wx, wy, wz = wx - along * ux, wy - along * uy, wz - along * uz
    return np.sqrt(wx * wx + wy * wy + wz * wz)


@numba.njit(cache=True, nogil=True)
def _through_surface(t, b1, b2, px, py, pz, ex, ey, ez, reach, numbers, places):  # type: ignore[no-untyped-def]
    """Direction and outward reach at a point of triangle t by the cage mesh nearest to it; e is the low's direction."""
    grid = places[places[_GRID] + t]
    cell = places[places[_FIRST] + t] + min(int(b1 * grid), grid - 1) * grid + min(int(b2 * grid), grid - 1)
    if not places[places[_LIMITED] + cell]:
        square, k, w1, w2 = nearest_of(px, py, pz, ex, ey, ez, cell, numbers, places)
        if k >= 0:
            near = square < numbers[places[_NEAR]] ** 2
            x, y, z = _mixed((places[_NORMALS] if near else places[_CORNERS]) + 9 * k, w1, w2, numbers)
            if not near:
                x, y, z = x - px, y - py, z - pz
            length = max(np.sqrt(x * x + y * y + z * z), 1e-30)
            return x / length, y / length, z / length, reach if near else length
    pair = places[places[_PAIR] + t]
    tracer = places[_TRACERS] + 2 * pair
    length, _, _, hit = hit_along(places[tracer], places[tracer + 1], px, py, pz, ex, ey, ez, 1e30)
    return ex, ey, ez, np.float64(length) if hit >= 0 else reach


@numba.njit(cache=True, nogil=True)
def _mixed(k, w1, w2, numbers):  # type: ignore[no-untyped-def]
    """Three corners that stand in `numbers` from k on, interpolated."""
    w0 = 1 - w1 - w2
    return (
        w0 * numbers[k] + w1 * numbers[k + 3] + w2 * numbers[k + 6],
        w0 * numbers[k + 1] + w1 * numbers[k + 4] + w2 * numbers[k + 7],
        w0 * numbers[k + 2] + w1 * numbers[k + 5] + w2 * numbers[k + 8],
    )


@numba.njit(cache=True, nogil=True)
def cage_point(k, w1, w2, numbers, places):  # type: ignore[no-untyped-def]
    """A point of cage triangle k."""
    return _mixed(places[_CORNERS] + 9 * k, w1, w2, numbers)


@numba.njit(cache=True, nogil=True)
def nearest_of(px, py, pz, ux, uy, uz, cell, numbers, places):  # type: ignore[no-untyped-def]
    """The nearest point of a cell's cage triangles whose normal there agrees with u within 90 degrees.

    Gives (squared distance, triangle, w1, w2); triangle is -1 for none.
    """
    best, chosen, c1, c2 = np.inf, -1, 0.0, 0.0
    for i in range(places[places[_CELLS] + cell], places[places[_CELLS] + cell + 1]):
        k = places[places[_NEAREST] + i]
        ball = places[_BALLS] + 4 * k
        dx, dy, dz = px - numbers[ball], py - numbers[ball + 1], pz - numbers[ball + 2]
        away = np.sqrt(dx * dx + dy * dy + dz * dz) - numbers[ball + 3]
        if away > 0 and away * away >= best:
            continue
        square, w1, w2 = nearest_in(px, py, pz, places[_CORNERS] + 9 * k, numbers)
        if square < best:
            x, y, z = _mixed(places[_NORMALS] + 9 * k, w1, w2, numbers)
            if x * ux + y * uy + z * uz > 0:
                best, chosen, c1, c2 = square, k, w1, w2
    return best, chosen, c1, c2


@numba.njit(cache=True, nogil=True)
def nearest_in(px, py, pz, k, c):  # type: ignore[no-untyped-def]
    """The point nearest to p of the triangle whose corners stand in c from k on: (squared distance, w1, w2).

    By the regions of its corners and edges: C. Ericson, "Real-Time Collision Detection" (2005), 5.1.5.
    """
    ux, uy, uz = c[k + 3] - c[k], c[k + 4] - c[k + 1], c[k + 5] - c[k + 2]
    vx, vy, vz = c[k + 6] - c[k], c[k + 7] - c[k + 1], c[k + 8] - c[k + 2]
    wx, wy, wz = px - c[k], py - c[k + 1], pz - c[k + 2]
    d1, d2 = ux * wx + uy * wy + uz * wz, vx * wx + vy * wy + vz * wz
    uu, uv, vv = ux * ux + uy * uy + uz * uz, ux * vx + uy * vy + uz * vz, vx * vx + vy * vy + vz * vz
    d3, d4, d5, d6 = d1 - uu, d2 - uv, d1 - uv, d2 - vv
    va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2
    if d1 <= 0 and d2 <= 0:
        w1, w2 = 0.0, 0.0
    elif d3 >= 0 and d4 <= d3:
        w1, w2 = 1.0, 0.0
    elif d6 >= 0 and d5 <= d6:
        w1, w2 = 0.0, 1.0
    elif vc <= 0 and d1 >= 0 and d3 <= 0:
        w1, w2 = d1 / (d1 - d3), 0.0
    elif vb <= 0 and d2 >= 0 and d6 <= 0:
        w1, w2 = 0.0, d2 / (d2 - d6)
    elif va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
        w2 = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        w1 = 1 - w2
    else:
        total = va + vb + vc
        w1, w2 = (vb / total, vc / total) if total > 0 else (0.0, 0.0)
    x, y, z = wx - w1 * ux - w2 * vx, wy - w1 * uy - w2 * vy, wz - w1 * uz - w2 * vz
    return x * x + y * y + z * z, w1, w2
