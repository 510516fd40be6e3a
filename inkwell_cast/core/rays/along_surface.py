"""How far places of a surface lie from one of them, along it: patches that grow over it from where one clicks.

Distances spread from corner to corner by unfolding: the two at an edge place a source in the plane of the triangle
beyond it, as waves that stay circles (M. Novotni and R. Klein, "Computing geodesic distances on triangular meshes",
2002). That is exact where the way unfolds into one plane past no corner that bends it, and near it elsewhere.
"""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F64, I32, I64
from ..base.kernels import kernel
from ..base.on_demand import on_demand
from ..base.records import Record, record_kind, record_of
from ..mesh.mesh import Mesh, corner_positions
from ..mesh.normals import vertices
from .closest_point import closest_on_triangle

coo_array = on_demand("scipy.sparse", "coo_array")
connected_components = on_demand("scipy.sparse.csgraph", "connected_components")

# What a part holds: a triangle in its own plane, corner 0 at the origin, corner 1 at (b, 0), corner 2 at (cx, cy),
CORNER, ALONG, ACROSS = 0, 3, 6  # where corner 0 lies, and the unit vectors of the plane
B, CX, CY = 9, 10, 11
DISTANCE, SOURCE, MIDDLE = 12, 15, 21  # of the corners; behind each edge; and the middle if it lies here. NaN: none
FIELDS = 23
SPREAD = record_kind({"parts": (np.float64, FIELDS), "owner": np.int32, "starts": np.int64})
LEAST_STEP = 1e-9  # of a distance: a way that is shorter by less is no shorter
MOST_SWEEPS = 500
Place = tuple[float, float, float]
FLAT_PART = 1e-9  # of its longest side: how high a triangle stands at least over it to have a plane


@dataclass(frozen=True, slots=True)
class SurfacePatch:
    """What of a surface lies within a distance of one of its places.

    rows (N,) int64 are triangles that reach into it, in ascending order, parts (N, 23) float64 where they lie; middle
    is the place itself, scene units.
    """

    rows: I64
    parts: F64
    middle: Place

    def distance(self, triangles: I64 | I32, places: F64) -> F64:
        """How far places (M, 3) of triangles (M,) lie from the middle along the surface, (M,); infinite beyond it."""
        out = np.full(len(places), np.inf)
        if len(self.rows):
            at = np.searchsorted(self.rows, triangles).clip(0, len(self.rows) - 1)
            there = np.flatnonzero(self.rows[at] == triangles)
            own = np.empty(len(there))
            _measure(self.parts, at[there], np.ascontiguousarray(places[there], np.float64), own)
            out[there] = own
        return out

    def corners(self, count: int) -> F64:
        """The distance of every corner of the mesh's `count` triangles, (count, 3); infinite beyond."""
        out = np.full((count, 3), np.inf)
        out[self.rows] = self.parts[:, DISTANCE : DISTANCE + 3]
        return out


@dataclass(frozen=True, slots=True)
class Spread:
    """Patches over triangles of a low: starts (P + 1,) say which of the parts (L, 23) lie on a triangle.

    owner (L,) int32 is the patch of each, in ascending order on a triangle.
    """

    parts: F64
    owner: I32
    starts: I64

    @property
    def record(self) -> Record:
        """Of the kind `SPREAD`."""
        return record_of(SPREAD, parts=self.parts, owner=self.owner, starts=self.starts)

    def on(self, rows: I32 | I64) -> "Spread":
        """Those that some rows of the triangles have."""
        starts, place = listed_on(self.starts, rows)
        return Spread(self.parts[place], self.owner[place], starts)


def listed_on(starts: I64, rows: I32 | I64) -> tuple[I64, I64]:
    """Lists that begin at starts (P + 1,), for some rows: where they begin then, and what to take of the old ones."""
    counts = np.diff(starts)[rows]
    begin = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    return begin, np.repeat(starts[:-1][rows] - begin[:-1], counts) + np.arange(begin[-1])


def no_spread(triangles: int) -> Spread:
    return Spread(np.zeros((0, FIELDS)), np.zeros(0, np.int32), np.zeros(triangles + 1, np.int64))


class Ground:
    """A mesh on which patches are laid. Corners are one where `vertices` says so, whatever seams the UVs have."""

    def __init__(self, mesh: Mesh) -> None:
        _, triangles, shared = vertices(mesh)
        self.ids: I32 = shared[triangles]
        self.points: F64 = corner_positions(mesh).astype(np.float64)
        self._shells: I32 | None = None
        self.middle = self.points.mean(axis=1)
        self.size = np.linalg.norm(self.points - self.middle[:, None], axis=2).max(axis=1, initial=0)

    @property
    def shells(self) -> I32:
        """Which shell each triangle is of, (T,): what hangs together by its corners."""
        if self._shells is None:
            count, corners = len(self.ids), self.ids.reshape(-1)
            links = np.repeat(np.arange(count), 3), corners + count
            every = count + int(corners.max(initial=0)) + 1
            joined = coo_array((np.ones(len(corners)), links), shape=(every, every))
            self._shells = np.asarray(connected_components(joined, directed=False)[1][:count], np.int32)
        return self._shells

    def foot(self, place: Place) -> tuple[int, Place]:
        """The triangle nearest to a place, and its point there. Raises ValueError for a mesh without triangles."""
        if not len(self.ids):
            raise ValueError("foot: the mesh has no triangles")
        row, _, x, y, z = _nearest(self.points, *place)
        return int(row), (x, y, z)

    def around(self, centre: F64 | Place, radius: float) -> SurfacePatch:
        """What lies within a radius of the place nearest to a centre; nothing where that lies farther than it."""
        away = np.linalg.norm(self.middle - np.asarray(centre), axis=1)
        near = np.flatnonzero(away <= self.size * 1.001 + radius)
        near = near[np.argsort(away[near], kind="stable")]
        x, y, z = (float(c) for c in centre)
        nothing = SurfacePatch(np.zeros(0, np.int64), np.zeros((0, FIELDS)), (x, y, z))
        if not len(near):
            return nothing
        first, far, *at = _nearest(self.points[near], x, y, z)
        if far > radius:
            return nothing
        own = self.shells[near] == self.shells[near[first]]  # nothing leads to another shell
        near, first = near[own], int(own[:first].sum())
        ids, vertex = np.unique(self.ids[near], return_inverse=True)
        parts = np.full((len(near), FIELDS), np.nan)
        corners = vertex.reshape(-1, 3).astype(np.int32)
        _spread(self.points[near], corners, first, np.array(at), len(ids), parts)
        kept = np.flatnonzero(_least(parts) <= radius)
        kept = kept[np.argsort(near[kept])]
        return SurfacePatch(near[kept], parts[kept], tuple(at))


def spread_of(ground: Ground, balls: F64) -> Spread:
    """Patches around centres with radii, balls (K, 4), over all triangles of a low."""
    count = len(ground.ids)
    if not len(balls) or not count:
        return no_spread(count)
    found = [ground.around(ball[:3], float(ball[3])) for ball in balls]
    rows = np.concatenate([patch.rows for patch in found])
    owner = np.repeat(np.arange(len(found)), [len(patch.rows) for patch in found]).astype(np.int32)
    order = np.argsort(rows, kind="stable")
    starts = np.searchsorted(rows[order], np.arange(count + 1)).astype(np.int64)
    return Spread(np.concatenate([patch.parts for patch in found])[order], owner[order], starts)


@kernel
def _nearest(points: F64, x: float, y: float, z: float) -> tuple[int, float, float, float, float]:
    """The triangle of points (N, 3, 3) that is nearest to a place, how far it is, and its point there."""
    best, row, w1, w2 = np.inf, 0, 0.0, 0.0
    for t in range(len(points)):
        square, b1, b2 = closest_on_triangle(x, y, z, points, t)
        if square < best:
            best, row, w1, w2 = square, t, b1, b2
    p, w0 = points[row], 1 - w1 - w2
    return (
        row,
        np.sqrt(best),
        w0 * p[0, 0] + w1 * p[1, 0] + w2 * p[2, 0],
        w0 * p[0, 1] + w1 * p[1, 1] + w2 * p[2, 1],
        w0 * p[0, 2] + w1 * p[1, 2] + w2 * p[2, 2],
    )


@kernel
def _spread(points: F64, ids: I32, first: int, middle: F64, vertices: int, parts: F64) -> None:
    """Write the parts (N, 23) of triangles (N, 3, 3), corners ids (N, 3), around a middle in triangle `first`."""
    distance = np.full(vertices, np.inf)
    for t in range(len(points)):
        _lay(points[t], parts[t])
    x, y = _laid(parts[first], middle[0], middle[1], middle[2])
    parts[first, MIDDLE], parts[first, MIDDLE + 1] = x, y
    for sweep in range(MOST_SWEEPS):
        shorter = False
        for n in range(len(points)):
            t = n if sweep % 2 == 0 else len(points) - 1 - n
            part = parts[t]
            for k in range(3):
                part[DISTANCE + k] = distance[ids[t, k]]
            _place_sources(part)
            for k in range(3):
                x, y = _corner(part, k)
                way = _way(part, x, y)
                if way < distance[ids[t, k]] * (1 - LEAST_STEP):
                    distance[ids[t, k]] = way
                    shorter = True
        if not shorter:
            break


@kernel(inline="always")
def _corner(part: F64, k: int) -> tuple[float, float]:
    if k == 0:
        return 0.0, 0.0
    if k == 1:
        return part[B], 0.0
    return part[CX], part[CY]


@kernel
def _lay(p: F64, part: F64) -> None:
    """A triangle (3, 3) in its own plane: all of a part but how far it lies."""
    ux, uy, uz = p[1, 0] - p[0, 0], p[1, 1] - p[0, 1], p[1, 2] - p[0, 2]
    wx, wy, wz = p[2, 0] - p[0, 0], p[2, 1] - p[0, 1], p[2, 2] - p[0, 2]
    b = np.sqrt(ux * ux + uy * uy + uz * uz)
    scale = 1 / b if b > 0 else 0.0
    ux, uy, uz = ux * scale, uy * scale, uz * scale
    along = wx * ux + wy * uy + wz * uz
    vx, vy, vz = wx - along * ux, wy - along * uy, wz - along * uz
    high = np.sqrt(vx * vx + vy * vy + vz * vz)
    up = 1 / high if high > FLAT_PART * max(b, abs(along)) else 0.0
    part[CORNER], part[CORNER + 1], part[CORNER + 2] = p[0, 0], p[0, 1], p[0, 2]
    part[ALONG], part[ALONG + 1], part[ALONG + 2] = ux, uy, uz
    part[ACROSS], part[ACROSS + 1], part[ACROSS + 2] = vx * up, vy * up, vz * up
    part[B], part[CX], part[CY] = b, along, high if up > 0 else 0.0


@kernel
def _laid(part: F64, x: float, y: float, z: float) -> tuple[float, float]:
    """A place in the plane of a part."""
    x, y, z = x - part[CORNER], y - part[CORNER + 1], z - part[CORNER + 2]
    return (
        x * part[ALONG] + y * part[ALONG + 1] + z * part[ALONG + 2],
        x * part[ACROSS] + y * part[ACROSS + 1] + z * part[ACROSS + 2],
    )


@kernel
def _place_sources(part: F64) -> None:
    """Behind each edge the place from which its two corners lie as far as they do."""
    for k in range(3):
        ax, ay = _corner(part, k)
        bx, by = _corner(part, (k + 1) % 3)
        da, db = part[DISTANCE + k], part[DISTANCE + (k + 1) % 3]
        ex, ey = bx - ax, by - ay
        long = np.sqrt(ex * ex + ey * ey)
        if not (da < np.inf and db < np.inf and long > 0 and part[CY] > 0):
            part[SOURCE + 2 * k] = part[SOURCE + 2 * k + 1] = np.nan
            continue
        along = (da * da - db * db + long * long) / (2 * long)
        out = np.sqrt(max(da * da - along * along, 0.0))
        ex, ey = ex / long, ey / long
        part[SOURCE + 2 * k] = ax + along * ex + out * ey
        part[SOURCE + 2 * k + 1] = ay + along * ey - out * ex


@kernel
def _way(part: F64, x: float, y: float) -> float:
    """How far a place in the plane of a part lies from the middle, over whichever edge is the shortest way."""
    way = np.inf
    for k in range(3):
        ax, ay = _corner(part, k)
        bx, by = _corner(part, (k + 1) % 3)
        sx, sy = part[SOURCE + 2 * k], part[SOURCE + 2 * k + 1]
        one = (ax - sx) * (y - sy) - (ay - sy) * (x - sx)
        other = (bx - sx) * (y - sy) - (by - sy) * (x - sx)
        if one * other <= 0:
            way = min(way, np.sqrt((x - sx) ** 2 + (y - sy) ** 2))
            continue
        da, db = part[DISTANCE + k], part[DISTANCE + (k + 1) % 3]
        way = min(way, da + np.sqrt((x - ax) ** 2 + (y - ay) ** 2), db + np.sqrt((x - bx) ** 2 + (y - by) ** 2))
    mx, my = part[MIDDLE], part[MIDDLE + 1]
    return min(way, np.sqrt((x - mx) ** 2 + (y - my) ** 2)) if mx == mx else way


@kernel
def distance_along(part: F64, x: float, y: float, z: float) -> float:
    """How far a place of a triangle lies from the middle of a patch along the surface; part (23,) is one of its."""
    p, q = _laid(part, x, y, z)
    return _way(part, p, q)


@kernel
def _measure(parts: F64, rows: I64, places: F64, out: F64) -> None:
    for i in range(len(rows)):
        out[i] = distance_along(parts[rows[i]], places[i, 0], places[i, 1], places[i, 2])


@kernel
def _least(parts: F64) -> F64:
    """How near each part comes to the middle, at least: by a corner, or where the source of an edge faces it."""
    out = np.empty(len(parts))
    for t in range(len(parts)):
        part = parts[t]
        least = min(part[DISTANCE], part[DISTANCE + 1], part[DISTANCE + 2])
        for k in range(3):
            ax, ay = _corner(part, k)
            bx, by = _corner(part, (k + 1) % 3)
            sx, sy = part[SOURCE + 2 * k], part[SOURCE + 2 * k + 1]
            ex, ey = bx - ax, by - ay
            along, square = (sx - ax) * ex + (sy - ay) * ey, ex * ex + ey * ey
            if 0 <= along <= square and square > 0:
                least = min(least, abs((sx - ax) * ey - (sy - ay) * ex) / np.sqrt(square))
        out[t] = 0.0 if part[MIDDLE] == part[MIDDLE] else least
    return out
