"""What is special at places of the low: cage meshes of another topology, pockets, straight faces, nudges, omissions.

They are evaluated at the point itself, so they count inside a face too. What few triangles need lies in two flat
arrays, `numbers` and `places`, handed on by address: a kernel that passes many arrays through its inner loop spends
more time on counting their references than on the ray.
"""

from dataclasses import dataclass

import numba
import numpy as np

from .arrays import F32, F64, I32, I64, Any_, Bool
from .embree import hit_along
from .pointers import as_float64, as_int64

OUT, IN, SMOOTH, ERASE, STRAIGHTEN = range(5)
KINDS = ("out", "in", "smooth", "erase", "straighten")
POCKETS, NUDGES, SURFACE, FLAT, OMITS = 1, 2, 4, 8, 16  # bits of `special`
MOST_PASSED = 64  # surfaces of left out highs that a ray goes through

# where things begin: in `numbers`
_POCKETS, _STROKES, _SEGMENTS, _CORNERS, _NORMALS, _BALLS, _NEAR, _FACES, _BENDS, _OMITTED, _END = range(11)
# in `places`
(
    _OWNER, _STARTS, _LISTED, _GRID, _FIRST, _LIMITED, _CELLS, _NEAREST, _TRACERS, _PAIR, _BENT, _BENT_LISTED,
) = range(11, 23)  # fmt: skip
_HEADER = 23


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
class Straight:
    """Flat faces of the low whose rays leave at right angles, away from bends.

    flat (P,) bool marks them; segments (S, 6) float64 are the edges at which they bend, `within` of which rays turn;
    starts (P + 1,) int64 and listed (L,) int32 say which of them are near a triangle. Scene units.
    """

    flat: Bool
    segments: F64
    starts: I64
    listed: I32
    within: float


@dataclass(frozen=True, slots=True)
class Special:
    """What has its say at places of the low beyond its corners.

    pockets (K, 7) float32: centre, radius, rim, outward and inward reach; nudges, surface and straight for some of its
    triangles; omitted (K, 5) float64: centre and radius of a ball, and the object of the sculpt that rays from the
    low inside it pass through. Scene units.
    """

    pockets: F32
    nudges: Nudges
    surface: Surface
    straight: Straight
    omitted: F64


def no_nudges(triangles: int) -> Nudges:
    nothing = np.zeros(0, np.int32)
    return Nudges(np.zeros((0, 4)), np.zeros((0, 7)), nothing, np.zeros(triangles + 1, np.int64), nothing)


def no_surface(triangles: int, pairs: int) -> Surface:
    nothing, corners = np.zeros(0, np.int32), np.zeros((0, 3, 3), np.float32)
    return Surface(
        np.zeros(triangles, np.int32),
        np.zeros(triangles, np.int64),
        np.zeros(0, np.bool_),
        np.zeros(1, np.int64),
        nothing,
        corners,
        corners,
        np.zeros((0, 4), np.float32),
        np.zeros((pairs, 2), np.uint64),
        0.0,
    )


def no_straight(triangles: int) -> Straight:
    starts = np.zeros(triangles + 1, np.int64)
    return Straight(np.zeros(triangles, np.bool_), np.zeros((0, 6)), starts, np.zeros(0, np.int32), 1.0)


def nothing_special(triangles: int, pairs: int) -> Special:
    nowhere = np.zeros((0, 7), np.float32)
    return Special(
        nowhere, no_nudges(triangles), no_surface(triangles, pairs), no_straight(triangles), np.zeros((0, 5))
    )


def laid_flat(points: F32, pair: I32, own: Special) -> tuple[I64, F64, I64]:
    """`Rays.special`, `Rays.numbers` and `Rays.places` of some triangles (P, 3, 3) and their pairs."""
    pockets, nudges, surface, straight = own.pockets, own.nudges, own.surface, own.straight
    special = np.where(surface.grid > 0, SURFACE, 0) | np.where(np.diff(nudges.starts) > 0, NUDGES, 0)
    special |= np.where(straight.flat, FLAT, 0)
    middle = points.mean(axis=1)
    size = np.linalg.norm(points - middle[:, None], axis=2).max(axis=1, initial=0)
    for balls, bit in ((pockets, POCKETS), (own.omitted, OMITS)):
        for ball in balls:
            near = np.linalg.norm(middle - ball[:3], axis=1) <= size * 1.001 + ball[3]
            special |= np.where(near, bit, 0)
    turns = straight.flat.any() or (nudges.strokes[:, 0] == STRAIGHTEN).any()
    numbers: list[Any_] = [pockets, nudges.strokes, nudges.segments, surface.corners, surface.normals, surface.balls]
    numbers += [np.array([surface.near]), _face_normals(points) if turns else np.zeros((0, 3))]
    numbers += [np.concatenate([[straight.within], straight.segments.reshape(-1)]), own.omitted, np.zeros(0)]
    places: list[Any_] = [
        nudges.owner,
        nudges.starts,
        nudges.listed,
        surface.grid,
        surface.first,
        surface.limited,
        surface.starts,
    ]
    places += [surface.listed, surface.tracers.view(np.int64), pair, straight.starts, straight.listed]
    sizes = [a.size for a in numbers], [a.size for a in places]
    header = np.concatenate([np.cumsum(sizes[0]) - sizes[0], np.cumsum(sizes[1]) - sizes[1] + _HEADER])
    flat = np.concatenate([np.asarray(a, np.float64).reshape(-1) for a in numbers])
    held = np.concatenate([header, *(np.asarray(a, np.int64).reshape(-1) for a in places)])
    ends = [flat.ctypes.data, held.ctypes.data]
    return np.concatenate([special, ends]).astype(np.int64), flat, held


def _face_normals(points: F32) -> F64:
    """Unit normals of triangles, zero where they have none."""
    corners = points.astype(np.float64)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return np.asarray(normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300))


@numba.njit(cache=True, nogil=True)
def special_ray(t, b1, b2, px, py, pz, ex, ey, ez, out, below, special):  # type: ignore[no-untyped-def]
    """Direction, outward and inward reach where what is special has its say.

    A cage surface, pockets, straightened faces and nudges, in that order.
    """
    numbers = numba.carray(as_float64(special[-2]), 1 << 40)
    places, which = numba.carray(as_int64(special[-1]), 1 << 40), special[t]
    if which & SURFACE:
        ex, ey, ez, out = _through_surface(t, b1, b2, px, py, pz, ex, ey, ez, out, numbers, places)
    if which & POCKETS:
        out, below = _in_pockets(px, py, pz, out, below, numbers, places)
    straight = _away_from_bends(t, px, py, pz, numbers, places) if which & FLAT else 0.0
    if which & NUDGES:
        out, straight = _nudged(t, px, py, pz, out, straight, numbers, places)
    if straight > 0:
        face = places[_FACES] + 3 * t
        ex, ey, ez = _turned(ex, ey, ez, numbers[face], numbers[face + 1], numbers[face + 2], straight)
    return ex, ey, ez, out, below


@numba.njit(cache=True, nogil=True)
def _away_from_bends(t, x, y, z, numbers, places):  # type: ignore[no-untyped-def]
    """How far a ray of a flat face turns to it: not at all on a bend, wholly where none is within reach."""
    begin, free = places[_BENDS], 1.0
    for i in range(places[places[_BENT] + t], places[places[_BENT] + t + 1]):
        away = _from_segment(x, y, z, begin + 1 + 6 * places[places[_BENT_LISTED] + i], numbers)
        free = min(free, away / numbers[begin])
    return free * free * (3 - 2 * free)


@numba.njit(cache=True, nogil=True)
def _turned(ex, ey, ez, nx, ny, nz, share):  # type: ignore[no-untyped-def]
    """A unit direction turned a share of the way to another, evenly; opposite ones stay."""
    cosine = ex * nx + ey * ny + ez * nz
    if cosine > 1 - 1e-12 or cosine < -0.999:
        return ex, ey, ez
    angle = np.arccos(cosine)
    a, b = np.sin((1 - share) * angle), np.sin(share * angle)
    x, y, z = a * ex + b * nx, a * ey + b * ny, a * ez + b * nz
    length = np.sqrt(x * x + y * y + z * z)
    return x / length, y / length, z / length


@numba.njit(cache=True, nogil=True)
def left_out(ox, oy, oz, dx, dy, dz, out, thing, special):  # type: ignore[no-untyped-def]
    """Whether an object of the sculpt is left out for the ray from o, `out` before its place on the low."""
    numbers = numba.carray(as_float64(special[-2]), 1 << 40)
    places = numba.carray(as_int64(special[-1]), 1 << 40)
    for k in range(places[_OMITTED], places[_END], 5):
        x, y, z = ox + dx * out - numbers[k], oy + dy * out - numbers[k + 1], oz + dz * out - numbers[k + 2]
        if numbers[k + 4] == thing and x * x + y * y + z * z < numbers[k + 3] ** 2:
            return True
    return False


@numba.njit(cache=True, nogil=True)
def strike_beyond(tracer, scene, first, ox, oy, oz, dx, dy, dz, out, far, objects, special):  # type: ignore[no-untyped-def]
    """The first hit whose object is not left out: length on the ray, u, v and triangle of the sculpt, -1 for none."""
    gone = 0.0
    for _ in range(MOST_PASSED):
        x, y, z = ox + gone * dx, oy + gone * dy, oz + gone * dz
        length, u, v, hit = hit_along(tracer, scene, x, y, z, dx, dy, dz, far - gone)
        if hit < 0:
            break
        gone += length
        if not left_out(ox, oy, oz, dx, dy, dz, out, objects[first + hit], special):
            return gone, u, v, first + hit
        gone += 1e-6 * far
        if gone >= far:
            break
    return far, 0.0, 0.0, np.int64(-1)


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
def _nudged(t, x, y, z, out, straight, numbers, places):  # type: ignore[no-untyped-def]
    """Outward reach and straightening at a place of triangle t after its strokes, in the order of their drawing."""
    before, turned, listed, owner = out, straight, places[_LISTED], places[_OWNER]
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
            straight += weight * amount * (turned - straight)
        elif kind == STRAIGHTEN:
            straight += weight * amount * (1 - straight)
    return out, straight


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
