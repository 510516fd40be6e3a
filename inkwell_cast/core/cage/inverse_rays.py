"""The ray field turned around: for a point of the sculpt, the place on the low whose ray passes through it.

Through barycentrics b of a low triangle runs the line p(b) + s d(b), with p and d interpolated from the corners'
positions and cage directions. A point x lies on it where the triangle p_i + s d_i contains x: det[a1 - a0, a2 - a0,
x - a0] = 0 with a_i = p_i + s d_i, a cubic in s, solved by Newton's method from the plane of the triangle. Averaged
directions make the field continuous over edges, so the search walks from triangle to triangle.
"""

from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np

from ..base.array_types import F32, F64, I32, I64, AnyArray, Bool
from ..base.errors import Cancelled
from ..base.kernels import kernel
from ..base.on_demand import on_demand
from ..base.progress import Cancel
from ..base.threads import in_batches
from ..mesh.adjacency import edges_of
from ..mesh.mesh import corner_positions
from ..mesh.surface_samples import spread_over
from ..piece.occluders import kept_occluders
from ..piece.piece import Assembly
from ..piece.scene_cache import Slot, Warm
from ..piece.sculpt import Sculpt
from ..rays.buried import buried_among
from .cage import build_cage
from .ray_directions import directions_of

cKDTree = on_demand("scipy.spatial", "cKDTree")

SEEDS = 60_000
MOST_POINTS = 1_000_000
STEPS = 48
AT_ONCE = 2_000_000  # triangles between two looks at a cancel
NEWTON_STEPS = 8
INSIDE = -1e-4
LOCATED = Slot["Located"]()


@dataclass(frozen=True, slots=True)
class Located:
    """Points of the sculpt on the rays of the low, one row each.

    triangle (N,) int32 of the low, b (N, 3) float32 its barycentrics, height (N,) float32 along the ray, positive
    outside, scene units; reach (N,) float32 the reach that would just hold it: the height, outside over the length of
    the interpolated direction, since a cage of even reach stands closer between the low's corners than at them.
    weight (N,) float64 the surface a point stands for; place (N, 3) float32; owner (N,) int32 the sculpt's object it is
    of. Points whose surface looks away from
    their ray, that lie on no ray, or are buried in another body of the sculpt, are left out: no bake can see them.
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
    key = f"{assembly.digest()} {sculpt.serial}"
    return warm.once(LOCATED, key, lambda: _seen(locate(assembly, sculpt, along, warm.stopped), assembly, sculpt, warm))


def _seen(located: Located, assembly: Assembly, sculpt: Sculpt, warm: Warm) -> Located:
    """Those of some points that are not buried in another body of the sculpt."""
    if not len(located.place):
        return located
    tracers = kept_occluders(assembly, sculpt, warm, "everything").tracers[0]
    buried = buried_among(located.place, None, tracers, assembly.low.diagonal, sculpt.record, warm.stopped)
    if not buried.any():
        return located
    return Located(*(getattr(located, name)[~buried] for name in Located.__slots__))  # type: ignore[attr-defined]


def locate(assembly: Assembly, sculpt: Sculpt, along: F32 | None = None, cancelled: Cancel = lambda: False) -> Located:
    """The sculpt's vertices (an even choice of about a million, if there are more) on the rays of their pair's lows.

    `along (T, 3, 3)` are other directions than the unit ones of the cage; `reach` is then in their lengths.
    `cancelled()` is asked at least every 100 ms; a true answer raises Cancelled.
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
            places, normals, weights, owner = _vertices(sculpt, first, last, step, cancelled)
            seeds, owners, _ = spread_over(points, rows, SEEDS)
            tree, exact = cKDTree(seeds), places.astype(np.float64)
            triangle = np.empty(len(places), np.int32)
            b, height, reach = np.empty((len(places), 3)), np.empty(len(places)), np.empty(len(places))
            seen, field = np.zeros(len(places), np.bool_), (points, directions, across)
            work = partial(_find, tree, owners, exact, normals, field, (triangle, b, height, reach, seen))
            in_batches(len(places), work, cancelled=cancelled)
            parts.append(
                Located(
                    triangle[seen],
                    b[seen].astype(np.float32),
                    height[seen].astype(np.float32),
                    reach[seen].astype(np.float32),
                    weights[seen],
                    places[seen],
                    owner[seen],
                )
            )
    if not parts:
        empty = np.zeros((0, 3), np.float32)
        none = np.zeros(0, np.float32)
        return Located(np.zeros(0, np.int32), empty, none, none, np.zeros(0), empty, np.zeros(0, np.int32))
    return Located(*(np.concatenate([getattr(p, name) for p in parts]) for name in Located.__slots__))  # type: ignore[attr-defined]


def _find(
    tree: Any,
    owners: I64,
    places: F64,
    normals: F32,
    field: tuple[F64, F64, I32],
    out: tuple[AnyArray, ...],
    i: int,
    j: int,
) -> None:
    """Locate places i to j, from the low triangle of the nearest seed on."""
    triangle, *rest = (array[i:j] for array in out)
    triangle[:] = owners[tree.query(places[i:j])[1]]
    _walk(places[i:j], normals[i:j], *field, triangle, *rest)  # type: ignore[call-arg]


def _vertices(sculpt: Sculpt, first: int, last: int, step: int, cancelled: Cancel) -> tuple[F32, F32, F64, I32]:
    """Every step-th position that triangles first to last use, its normal, the surface it stands for, its object."""
    mesh = sculpt.mesh
    assert mesh.normals is not None
    triangles, rows, objects = mesh.triangles[first:last], mesh.normals.corners[first:last], mesh.objects[first:last]
    count = len(mesh.positions)
    area, normal, owner = np.zeros(count), np.full(count, -1, np.int64), np.zeros(count, np.int32)
    for begin in range(0, len(triangles), AT_ONCE):
        if cancelled():
            raise Cancelled
        part = slice(begin, begin + AT_ONCE)
        _collect(mesh.positions, triangles[part], rows[part], objects[part], area, normal, owner)
    used = np.flatnonzero(normal >= 0)[::step]
    return mesh.positions[used], mesh.normals.values[normal[used]], area[used] * step, owner[used]


@kernel
def _collect(positions: F32, triangles: I32, rows: I32, objects: I32, area: F64, normal: I64, owner: I32) -> None:
    """For every vertex of some triangles a third of their area, and the normal's row and the object of the last."""
    for t in range(len(triangles)):
        a, b, c = positions[triangles[t, 0]], positions[triangles[t, 1]], positions[triangles[t, 2]]
        ux, uy, uz = np.float64(b[0]) - a[0], np.float64(b[1]) - a[1], np.float64(b[2]) - a[2]
        vx, vy, vz = np.float64(c[0]) - a[0], np.float64(c[1]) - a[1], np.float64(c[2]) - a[2]
        x, y, z = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        third = np.sqrt(x * x + y * y + z * z) / 6
        for k in range(3):
            vertex = triangles[t, k]
            area[vertex] += third
            normal[vertex], owner[vertex] = rows[t, k], objects[t]


@kernel
def _walk(
    places: F64,
    normals: F32,
    points: F64,
    directions: F64,
    across: I32,
    triangle: I32,
    b: F64,
    height: F64,
    reach: F64,
    seen: Bool,
) -> None:
    """Start at `triangle` and walk to the one whose rays hold each place; see `Located` for the outputs."""
    for i in range(len(places)):
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


@kernel
def _solve(x: F64, p: F64, d: F64) -> tuple[float, float, float, float]:
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
