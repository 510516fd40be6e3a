"""The ray field turned around: for a point of the sculpt, the place on the low whose ray passes through it.

Through barycentrics b of a low triangle runs the line p(b) + s d(b), with p and d interpolated from the corners'
positions and cage directions. A point x lies on it where the triangle p_i + s d_i contains x: det[a1 - a0, a2 - a0,
x - a0] = 0 with a_i = p_i + s d_i, a cubic in s, solved by Newton's method from the plane of the triangle. Averaged
directions make the field continuous over edges, so the search walks from triangle to triangle.
"""

from dataclasses import dataclass

import numba
import numpy as np
from scipy.spatial import cKDTree

from .arrays import F32, F64, I32
from .assembly import Assembly, Sculpt, Warm
from .cage import build_cage, directions_of
from .edges import edges_of
from .mesh import corner_positions
from .spread import spread_over

SEEDS = 60_000
MOST_POINTS = 1_000_000
STEPS = 48
NEWTON_STEPS = 8
INSIDE = -1e-4


@dataclass(frozen=True, slots=True)
class Located:
    """Points of the sculpt on the rays of the low, one row each.

    triangle (N,) int32 of the low, b (N, 3) float32 its barycentrics, height (N,) float32 along the ray, positive
    outside, scene units; reach (N,) float32 the reach that would just hold it: the height, outside over the length of
    the interpolated direction, since a cage of even reach stands closer between the low's corners than at them.
    weight (N,) float64 the surface a point stands for; place (N, 3) float32; owner (N,) int32 the sculpt's object it is
    of. Points whose surface looks away from
    their ray, or that lie on no ray, are left out: no bake can see them.
    """

    triangle: I32
    b: F32
    height: F32
    reach: F32
    weight: F64
    place: F32
    owner: I32


def located_of(assembly: Assembly, warm: Warm) -> Located:
    """The sculpt on the rays of the cage's own directions, kept for the next time.

    Inside a face the rays of a cage of another topology are taken to go as its corners say.
    """
    sculpt = warm.sculpt(assembly)
    along = None
    if any(cage is not None for cage in assembly.cages):
        offsets = build_cage(assembly).corners
        along = offsets / np.maximum(np.linalg.norm(offsets, axis=2, keepdims=True), 1e-30)
    return warm.once("located", f"{assembly.digest()} {sculpt.serial}", lambda: locate(assembly, sculpt, along))


def locate(assembly: Assembly, sculpt: Sculpt, along: F32 | None = None) -> Located:
    """The sculpt's vertices (an even choice of about a million, if there are more) on the rays of their pair's lows.

    `along (T, 3, 3)` are other directions than the unit ones of the cage; `reach` is then in their lengths.
    """
    low = assembly.low
    points = corner_positions(low).astype(np.float64)
    directions = np.asarray(directions_of(assembly) if along is None else along, np.float64)
    across = edges_of(low).across
    step = max(1, len(sculpt.mesh.positions) // MOST_POINTS)
    parts: list[Located] = []
    for n, (first, last) in enumerate(zip(sculpt.first[:-1].tolist(), sculpt.first[1:].tolist(), strict=True)):
        rows = np.flatnonzero(assembly.low_pair == n)
        if len(rows) and last > first:
            places, normals, weights, owner = _vertices(sculpt, first, last, step)
            seeds, owners, _ = spread_over(points, rows, SEEDS)
            triangle = owners[cKDTree(seeds).query(places, workers=-1)[1]].astype(np.int32)
            b, height, reach = np.empty((len(places), 3)), np.empty(len(places)), np.empty(len(places))
            seen = np.zeros(len(places), np.bool_)
            _walk(places.astype(np.float64), normals, points, directions, across, triangle, b, height, reach, seen)
            parts.append(
                Located(
                    triangle[seen], b[seen].astype(np.float32), height[seen].astype(np.float32),
                    reach[seen].astype(np.float32), weights[seen], places[seen], owner[seen],
                )
            )  # fmt: skip
    if not parts:
        empty = np.zeros((0, 3), np.float32)
        none = np.zeros(0, np.float32)
        return Located(np.zeros(0, np.int32), empty, none, none, np.zeros(0), empty, np.zeros(0, np.int32))
    return Located(*(np.concatenate([getattr(p, name) for p in parts]) for name in Located.__slots__))  # type: ignore[attr-defined]


def _vertices(sculpt: Sculpt, first: int, last: int, step: int) -> tuple[F32, F32, F64, I32]:
    """Every step-th position that triangles first to last use, its normal, the surface it stands for, its object."""
    mesh = sculpt.mesh
    assert mesh.normals is not None
    triangles, rows = mesh.triangles[first:last], mesh.normals.corners[first:last]
    corner = mesh.positions[triangles].astype(np.float64)
    area = np.linalg.norm(np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]), axis=1) / 6
    used, place = np.unique(triangles.reshape(-1), return_inverse=True)
    weights: F64 = np.bincount(place, np.repeat(area, 3), len(used)).astype(np.float64)
    normal = np.zeros(len(used), np.int64)
    normal[place] = rows.reshape(-1)
    owner = np.zeros(len(used), np.int32)
    owner[place] = np.repeat(mesh.objects[first:last], 3)
    kept = slice(None, None, step)
    return mesh.positions[used[kept]], mesh.normals.values[normal[kept]], weights[kept] * step, owner[kept]


@numba.njit(cache=True, nogil=True, parallel=True)
def _walk(places, normals, points, directions, across, triangle, b, height, reach, seen):  # type: ignore[no-untyped-def]
    """Start at `triangle` and walk to the one whose rays hold each place; see `Located` for the outputs."""
    for i in numba.prange(len(places)):
        t = triangle[i]
        best, best_t, b0, b1, b2, s = -1e30, t, 0.0, 0.0, 0.0, 0.0
        previous = -1
        for _ in range(STEPS):
            c0, c1, c2, at = _solve(places[i], points[t], directions[t])
            lowest = min(c0, c1, c2)
            if lowest > best:
                best, best_t, b0, b1, b2, s = lowest, t, c0, c1, c2, at
            if lowest >= INSIDE:
                break
            k = 1 if c0 == lowest else 2 if c1 == lowest else 0  # the edge across from that corner
            g = across[t, k]
            if g < 0 or g == previous:
                break
            previous, t = t, g
        d = directions[best_t]
        x = b0 * d[0, 0] + b1 * d[1, 0] + b2 * d[2, 0]
        y = b0 * d[0, 1] + b1 * d[1, 1] + b2 * d[2, 1]
        z = b0 * d[0, 2] + b1 * d[1, 2] + b2 * d[2, 2]
        triangle[i] = best_t
        b[i, 0], b[i, 1], b[i, 2] = b0, b1, b2
        height[i] = s * np.sqrt(x * x + y * y + z * z)
        reach[i] = s if s > 0 else height[i]
        facing = normals[i, 0] * x + normals[i, 1] * y + normals[i, 2] * z
        seen[i] = best >= 100 * INSIDE and facing > 0


@numba.njit(cache=True, nogil=True)
def _solve(x, p, d):  # type: ignore[no-untyped-def]
    """Barycentrics and s of the line of one triangle through x."""
    a = np.empty((3, 3))
    s = 0.0
    for step in range(NEWTON_STEPS + 1):
        for i in range(3):
            for k in range(3):
                a[i, k] = p[i, k] + s * d[i, k]
        ux, uy, uz = a[1, 0] - a[0, 0], a[1, 1] - a[0, 1], a[1, 2] - a[0, 2]
        vx, vy, vz = a[2, 0] - a[0, 0], a[2, 1] - a[0, 1], a[2, 2] - a[0, 2]
        nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        square = nx * nx + ny * ny + nz * nz
        wx, wy, wz = x[0] - a[0, 0], x[1] - a[0, 1], x[2] - a[0, 2]
        if square < 1e-300:
            return -1e9, -1e9, -1e9, 0.0
        # barycentrics of x projected onto the triangle
        b1 = ((wy * vz - wz * vy) * nx + (wz * vx - wx * vz) * ny + (wx * vy - wy * vx) * nz) / square
        b2 = ((uy * wz - uz * wy) * nx + (uz * wx - ux * wz) * ny + (ux * wy - uy * wx) * nz) / square
        b0 = 1 - b1 - b2
        if step == NEWTON_STEPS:
            break
        # the plane moves along the direction at the foot of x; its share along the normal says how far to go
        along = 0.0
        for k in range(3):
            n = nx if k == 0 else ny if k == 1 else nz
            along += n * (b0 * d[0, k] + b1 * d[1, k] + b2 * d[2, k])
        if abs(along) < 1e-12 * np.sqrt(square):
            return -1e9, -1e9, -1e9, 0.0
        change = (nx * wx + ny * wy + nz * wz) / along
        s += change
        if abs(change) <= 1e-9 * abs(s):
            break
    return b0, b1, b2, s
