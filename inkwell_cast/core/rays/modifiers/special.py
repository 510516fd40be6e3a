"""What is special at places of the low: cage meshes of another topology, pockets, straight faces, nudges, omissions.

They are evaluated at the point itself, so they count inside a face too. What few triangles need lies in two flat
arrays, `numbers` and `places`, handed on by address: a kernel that passes many arrays through its inner loop spends
more time on counting their references than on the ray.
"""

from dataclasses import dataclass

import numba
import numpy as np

from ...base.array_types import F32, F64, I32, I64, Any_, Bool
from ...base.borrowed_arrays import as_float64, as_int64, keeping
from ..closest_point import mixed, nearest_of
from ..embree import hit_along
from .blocks import (
    AT_BENDS,
    AT_BENT,
    AT_BENT_LISTED,
    AT_CORNERS,
    AT_END,
    AT_FACES,
    AT_FIRST,
    AT_GRID,
    AT_LIMITED,
    AT_LISTED,
    AT_NEAR,
    AT_NORMALS,
    AT_OMITTED,
    AT_OWNER,
    AT_PAIR,
    AT_PICTURE,
    AT_POCKETS,
    AT_SEGMENTS,
    AT_STARTS,
    AT_STROKES,
    AT_TRACERS,
    AT_UVS,
    ERASE,
    FLAT,
    HEADER,
    IN,
    NUDGES,
    OMITS,
    OUT,
    PAINTED,
    POCKETS,
    SMOOTH,
    STRAIGHTEN,
    SURFACE,
)

MOST_PASSED = 64  # surfaces of left out highs that a ray goes through


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
    starts (P + 1,) int64 and listed (L,) int32 say which of them are near a triangle. Scene units. picture (H, W)
    float64, 0 rows for none, from 0 to 1 is laid by uvs (P, 3, 2) and straightens as much.
    """

    flat: Bool
    segments: F64
    starts: I64
    listed: I32
    within: float
    picture: F64
    uvs: F64


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
    return Straight(
        np.zeros(triangles, np.bool_), np.zeros((0, 6)), starts, np.zeros(0, np.int32), 1.0, np.zeros((0, 0)),
        np.zeros((0, 3, 2)),
    )  # fmt: skip


def nothing_special(triangles: int, pairs: int) -> Special:
    nowhere = np.zeros((0, 7), np.float32)
    return Special(
        nowhere, no_nudges(triangles), no_surface(triangles, pairs), no_straight(triangles), np.zeros((0, 5))
    )


def laid_flat(points: F32, pair: I32, own: Special) -> I64:
    """`Rays.special` of some triangles (P, 3, 3) and their pairs; it keeps all that it points to."""
    pockets, nudges, surface, straight = own.pockets, own.nudges, own.surface, own.straight
    special: Any_ = np.where(surface.grid > 0, SURFACE, 0) | np.where(np.diff(nudges.starts) > 0, NUDGES, 0)
    special = np.where(straight.flat, FLAT, 0) | special | (PAINTED if len(straight.picture) else 0)
    middle = points.mean(axis=1)
    size = np.linalg.norm(points - middle[:, None], axis=2).max(axis=1, initial=0)
    for balls, bit in ((pockets, POCKETS), (own.omitted, OMITS)):
        for ball in balls:
            near = np.linalg.norm(middle - ball[:3], axis=1) <= size * 1.001 + ball[3]
            special |= np.where(near, bit, 0)
    turns = straight.flat.any() or len(straight.picture) or (nudges.strokes[:, 0] == STRAIGHTEN).any()
    numbers: list[Any_] = [pockets, nudges.strokes, nudges.segments, surface.corners, surface.normals, surface.balls]
    numbers += [np.array([surface.near]), _face_normals(points) if turns else np.zeros((0, 3))]
    numbers += [np.concatenate([[straight.within], straight.segments.reshape(-1)]), straight.uvs]
    numbers += [np.concatenate([straight.picture.shape, straight.picture.reshape(-1)]), own.omitted, np.zeros(0)]
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
    header = np.concatenate([np.cumsum(sizes[0]) - sizes[0], np.cumsum(sizes[1]) - sizes[1] + HEADER])
    flat = np.concatenate([np.asarray(a, np.float64).reshape(-1) for a in numbers])
    held = np.concatenate([header, *(np.asarray(a, np.int64).reshape(-1) for a in places)])
    ends = [flat.ctypes.data, held.ctypes.data]
    return keeping(np.concatenate([special, ends]).astype(np.int64), flat, held, surface.tracers)


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
    out, straight = _straightness(t, b1, b2, px, py, pz, out, which, numbers, places)
    if straight > 0:
        face = places[AT_FACES] + 3 * t
        ex, ey, ez = _turned(ex, ey, ez, numbers[face], numbers[face + 1], numbers[face + 2], straight)
    return ex, ey, ez, out, below


@numba.njit(cache=True, nogil=True)
def straight_at(t, b1, b2, px, py, pz, special):  # type: ignore[no-untyped-def]
    """How far a ray is turned to its face, 0 to 1."""
    if not special[t] & (FLAT | PAINTED | NUDGES):
        return 0.0
    numbers, places = numba.carray(as_float64(special[-2]), 1 << 40), numba.carray(as_int64(special[-1]), 1 << 40)
    return _straightness(t, b1, b2, px, py, pz, 0.0, special[t], numbers, places)[1]


@numba.njit(cache=True, nogil=True)
def _straightness(t, b1, b2, px, py, pz, out, which, numbers, places):  # type: ignore[no-untyped-def]
    """Outward reach after nudges, and how far the ray is turned to its face: flat faces, a picture, then strokes."""
    straight = _away_from_bends(t, px, py, pz, numbers, places) if which & FLAT else 0.0
    if which & PAINTED:
        straight += (1 - straight) * _painted(t, b1, b2, numbers, places)
    if which & NUDGES:
        return _nudged(t, px, py, pz, out, straight, numbers, places)
    return out, straight


@numba.njit(cache=True, nogil=True)
def _painted(t, b1, b2, numbers, places):  # type: ignore[no-untyped-def]
    """The picture at a place of triangle t, between its texels; it repeats beyond the tile."""
    k, first, b0 = places[AT_UVS] + 6 * t, places[AT_PICTURE], 1 - b1 - b2
    height, width = int(numbers[first]), int(numbers[first + 1])
    x = (b0 * numbers[k] + b1 * numbers[k + 2] + b2 * numbers[k + 4]) * width - 0.5
    y = (1 - b0 * numbers[k + 1] - b1 * numbers[k + 3] - b2 * numbers[k + 5]) * height - 0.5
    i, j = int(np.floor(x)), int(np.floor(y))
    fx, fy = x - i, y - j
    top, below, left, right = j % height, (j + 1) % height, i % width, (i + 1) % width
    at = first + 2
    return (1 - fy) * ((1 - fx) * numbers[at + top * width + left] + fx * numbers[at + top * width + right]) + fy * (
        (1 - fx) * numbers[at + below * width + left] + fx * numbers[at + below * width + right]
    )


@numba.njit(cache=True, nogil=True)
def _away_from_bends(t, x, y, z, numbers, places):  # type: ignore[no-untyped-def]
    """How far a ray of a flat face turns to it: not at all on a bend, wholly where none is within reach."""
    begin, free = places[AT_BENDS], 1.0
    for i in range(places[places[AT_BENT] + t], places[places[AT_BENT] + t + 1]):
        away = from_segment(x, y, z, begin + 1 + 6 * places[places[AT_BENT_LISTED] + i], numbers)
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
    for k in range(places[AT_OMITTED], places[AT_END], 5):
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
    for k in range(places[AT_POCKETS], places[AT_STROKES], 7):
        dx, dy, dz = x - numbers[k], y - numbers[k + 1], z - numbers[k + 2]
        weight = fade(np.sqrt(dx * dx + dy * dy + dz * dz) / numbers[k + 3], numbers[k + 4])
        out += weight * (numbers[k + 5] - out)
        inward += weight * (numbers[k + 6] - inward)
    return out, inward


@numba.njit(cache=True, nogil=True)
def _nudged(t, x, y, z, out, straight, numbers, places):  # type: ignore[no-untyped-def]
    """Outward reach and straightening at a place of triangle t after its strokes, in the order of their drawing."""
    before, turned, listed, owner = out, straight, places[AT_LISTED], places[AT_OWNER]
    i, end = places[places[AT_STARTS] + t], places[places[AT_STARTS] + t + 1]
    while i < end:
        stroke = places[owner + places[listed + i]]
        n = places[AT_STROKES] + 4 * stroke
        kind, radius, rim, amount = numbers[n], numbers[n + 1], numbers[n + 2], numbers[n + 3]
        weight = level = total = 0.0
        while i < end and places[owner + places[listed + i]] == stroke:
            s = places[AT_SEGMENTS] + 7 * places[listed + i]
            own = fade(from_segment(x, y, z, s, numbers) / radius, rim)
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
def from_segment(x, y, z, s, numbers):  # type: ignore[no-untyped-def]
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
    grid = places[places[AT_GRID] + t]
    cell = places[places[AT_FIRST] + t] + min(int(b1 * grid), grid - 1) * grid + min(int(b2 * grid), grid - 1)
    if not places[places[AT_LIMITED] + cell]:
        square, k, w1, w2 = nearest_of(px, py, pz, ex, ey, ez, cell, numbers, places)
        if k >= 0:
            near = square < numbers[places[AT_NEAR]] ** 2
            x, y, z = mixed((places[AT_NORMALS] if near else places[AT_CORNERS]) + 9 * k, w1, w2, numbers)
            if not near:
                x, y, z = x - px, y - py, z - pz
            length = max(np.sqrt(x * x + y * y + z * z), 1e-30)
            return x / length, y / length, z / length, reach if near else length
    pair = places[places[AT_PAIR] + t]
    tracer = places[AT_TRACERS] + 2 * pair
    length, _, _, hit = hit_along(places[tracer], places[tracer + 1], px, py, pz, ex, ey, ez, 1e30)
    return ex, ey, ez, np.float64(length) if hit >= 0 else reach
