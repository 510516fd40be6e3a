"""A cage mesh of another topology than its low's: rays start at its nearest point, or it limits their length.

Where the cage lies on the low (a copy of it with more edge loops) its own averaged normals give the direction and the
reach the length; where it stands off, the nearest point gives both. Where no point of it agrees with the low, or
neighbours on the sheet would take points far apart, it only says how far out rays may start.

Every triangle of the low is cut into cells by its barycentrics, and each cell lists the cage triangles that can be the
nearest to a point in it.
"""

from dataclasses import dataclass, replace

import numba
import numpy as np
from scipy.spatial import cKDTree

from ...base.array_types import F32, F64, I32, I64, Any_
from ...base.borrowed_arrays import as_float64, as_int64, keeping
from ...mesh.mesh import Mesh, corner_positions
from ...mesh.normals import averaged, with_normals
from ..closest_point import cage_point, nearest_in, nearest_of
from ..embree import Scene, Vertices, tracers_of
from .special import Surface, laid_flat, nothing_special

NEAR = 1e-3  # of the low's diagonal: closer than this the cage lies on the low
MOST_CELLS = 400_000
COARSEST, FINEST = 4, 24
JUMP = 6.0  # times their own distance: neighbours on the sheet may take points of the cage that far apart
USABLE = 0.5  # of the low's surface; a cage that serves less of it only limits length


@dataclass(frozen=True, slots=True)
class Fitted:
    """A cage mesh laid over its low.

    share is the part of the low's surface whose rays start at it; limited (N, 3) float32 are places where it only
    limits the length; apart is the largest distance from the low to it.
    """

    share: float
    limited: F32
    apart: float


class SurfaceBuilder:
    """Gathers the cages of several pairs into one `Surface` for all triangles of the low.

    points and directions (T, 3, 3) float32 of the low's corners, uvs (T, 3, 2) of the sheet or None, distances in
    scene units.
    """

    def __init__(self, points: F32, directions: F32, uvs: F32 | None, pairs: int, near: float) -> None:
        self.points, self.directions, self.uvs, self.near = points, directions, uvs, near
        self.scenes: list[Scene] = []
        self._grid, self._first = np.zeros(len(points), np.int32), np.zeros(len(points), np.int64)
        self._scene_of = [-1] * pairs
        self._corners, self._normals = [np.zeros((0, 3, 3), np.float32)], [np.zeros((0, 3, 3), np.float32)]
        self._limited, self._counts = [np.zeros(0, np.bool_)], [np.zeros(1, np.int64)]
        self._listed = [np.zeros(0, np.int32)]

    def add(self, pair: int, rows: I64, cage: Mesh) -> Fitted:
        """Lay a cage over triangles `rows` of the low."""
        corners = np.ascontiguousarray(corner_positions(cage), np.float32)
        normals = averaged(with_normals(cage))
        self._see(pair, cage)
        own = cells_of(self.points[rows], self.directions[rows], corners, normals)
        before = sum(len(c) for c in self._corners), sum(len(c) for c in self._limited)
        self._grid[rows], self._first[rows] = own.surface.grid, own.surface.first + before[1]
        uvs = own.middles if self.uvs is None else own.at(self.uvs[rows])
        c, square, found = own.nearest()
        limited = ~found | _jumps(own.middles, uvs, c, own.inside & found, 1e-3 * self.near / NEAR)
        share = float(own.area[own.inside & ~limited].sum() / max(own.area[own.inside].sum(), 1e-300))
        if share < USABLE:
            limited[:], share = True, 0.0
        self._corners.append(corners)
        self._normals.append(normals)
        self._limited.append(limited)
        self._counts.append(np.diff(own.surface.starts))
        self._listed.append(own.surface.listed + np.int32(before[0]))
        reach = np.sqrt(square[own.inside & found])
        return Fitted(share, own.middles[limited & own.inside].astype(np.float32), float(reach.max(initial=0)))

    def _see(self, pair: int, cage: Mesh) -> None:
        """A scene that is struck from both sides."""
        both = np.concatenate([cage.triangles, cage.triangles[:, ::-1]]).astype(np.int32)
        self.scenes.append(Scene(Vertices(cage.positions), both))
        self._scene_of[pair] = len(self.scenes) - 1

    def surface(self) -> Surface:
        corners = np.concatenate(self._corners)
        known = tracers_of(self.scenes)
        none = np.zeros((1, 2), np.uint64)
        tracers = keeping(np.concatenate([none, known])[np.array(self._scene_of) + 1], known)
        return Surface(
            self._grid, self._first, np.concatenate(self._limited), np.cumsum(np.concatenate(self._counts)),
            np.concatenate(self._listed), corners, np.concatenate(self._normals), _balls(corners), tracers,
            self.near,
        )  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Cells:
    """Cells (C,) of some triangles: their middles, the low's direction there, whether they lie inside, their area."""

    surface: Surface
    owner: I64
    b: F64
    middles: F64
    ways: F64
    inside: Any_
    area: F64

    def nearest(self) -> tuple[F64, F64, Any_]:
        """For every cell the nearest agreeing point of the cage (C, 3), its squared distance, whether there is one."""
        count = len(self.surface.grid)
        own = replace(nothing_special(count, 0), surface=self.surface)
        special = laid_flat(np.zeros((count, 3, 3), np.float32), np.zeros(count, np.int32), own)
        return _nearest(self.middles, self.ways, special)  # type: ignore[no-any-return]

    def at(self, values: F32) -> F64:
        """Values at corners (P, 3, k), interpolated at the middles."""
        return np.einsum("nk,nkc->nc", self.b, values[self.owner].astype(np.float64))


def cells_of(points: F32, directions: F32, corners: F32, normals: F32) -> _Cells:
    """Cut triangles (P, 3, 3) into cells and list for each the cage triangles that can be nearest to it."""
    balls = _balls(corners)
    middle, size = points.mean(axis=1, dtype=np.float64), _sizes(points)
    most = int(np.clip(np.sqrt(MOST_CELLS / max(len(points), 1)), 2, FINEST))
    wanted = np.ceil(2 * size / max(float(np.median(balls[:, 3])), 1e-300))
    grid = np.clip(wanted, min(COARSEST, most), most).astype(np.int32)
    count = grid.astype(np.int64) ** 2
    first = np.cumsum(count) - count
    owner = np.repeat(np.arange(len(points)), count)
    k, g = np.arange(len(owner)) - first[owner], grid[owner]
    i, j = k // g, k % g
    b1, b2 = (i + 0.5) / g, (j + 0.5) / g
    inside = i + j < g
    b1, b2 = b1 - np.where(i + j == g - 1, 1 / (6 * g), 0), b2 - np.where(i + j == g - 1, 1 / (6 * g), 0)
    b = np.stack([1 - b1 - b2, b1, b2], axis=1)
    middles = np.einsum("nk,nkc->nc", b, points[owner].astype(np.float64))
    ways = np.einsum("nk,nkc->nc", b, directions[owner].astype(np.float64))
    ways /= np.maximum(np.linalg.norm(ways, axis=1), 1e-30)[:, None]
    p = points.astype(np.float64)
    area = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)[owner] / g**2
    area *= np.where(i + j == g - 1, 0.5, 1.0)
    nothing = np.zeros(0, np.int32), np.zeros(0, np.int64)
    starts, listed = _lists(middle, size, np.arange(len(points)), directions, corners, normals, balls, *nothing)
    starts, listed = _lists(
        middles, 2.7 * size[owner] / grid[owner], owner, directions, corners, normals, balls, listed, starts
    )
    surface = Surface(
        grid, first, np.zeros(len(owner), np.bool_), starts, listed, corners, normals, balls,
        np.zeros((1, 2), np.uint64), 0.0,
    )  # fmt: skip
    return _Cells(surface, owner, b, middles, ways, inside, area)


def _lists(
    middle: F64, size: F64, owner: I64, directions: F32, corners: F32, normals: F32, balls: F32, listed: I32,
    starts: I64,
) -> tuple[I64, I32]:  # fmt: skip
    """Which cage triangles can be nearest in each of some balls, out of those listed for their owner (all, if none)."""
    count = np.zeros(len(middle) + 1, np.int64)
    room = np.zeros(0, np.int32)
    _near(middle, size, owner, directions, corners, normals, balls, listed, starts, count, room)
    ends = np.cumsum(count)
    room = np.empty(int(ends[-1]), np.int32)
    if len(room):
        _near(middle, size, owner, directions, corners, normals, balls, listed, starts, ends, room)
    return ends, room


@numba.njit(cache=True, nogil=True)
def _near(middle, size, owner, directions, corners, normals, balls, listed, starts, ends, room):  # type: ignore[no-untyped-def]
    """Count in `ends[i + 1]`, or, given `room`, write from `ends[i]` on."""
    flat = corners.reshape(-1)
    for i in range(len(middle)):
        t, x, y, z = owner[i], middle[i, 0], middle[i, 1], middle[i, 2]
        first, last = (starts[t], starts[t + 1]) if len(starts) else (0, len(corners))
        bound = np.inf
        for n in range(first, last):
            k = listed[n] if len(starts) else n
            dx, dy, dz = x - balls[k, 0], y - balls[k, 1], z - balls[k, 2]
            if np.sqrt(dx * dx + dy * dy + dz * dz) - balls[k, 3] < bound and _agree(normals[k], directions[t]):
                bound = min(bound, np.sqrt(nearest_in(x, y, z, 9 * k, flat)[0]))
        place = ends[i]
        for n in range(first, last):
            k = listed[n] if len(starts) else n
            dx, dy, dz = x - balls[k, 0], y - balls[k, 1], z - balls[k, 2]
            if np.sqrt(dx * dx + dy * dy + dz * dz) - balls[k, 3] > bound + 2 * size[i]:
                continue
            if len(room):
                room[place] = k
                place += 1
            else:
                ends[i + 1] += 1


@numba.njit(cache=True, nogil=True)
def _agree(normals, directions):  # type: ignore[no-untyped-def]
    """Whether all corners of a cage triangle look where all corners of a low triangle do."""
    for a in range(3):
        for b in range(3):
            if (
                normals[a, 0] * directions[b, 0] + normals[a, 1] * directions[b, 1] + normals[a, 2] * directions[b, 2]
                <= 0
            ):
                return False
    return True


@numba.njit(cache=True, nogil=True)
def _nearest(middles, ways, special):  # type: ignore[no-untyped-def]
    numbers, places = numba.carray(as_float64(special[-2]), 1 << 40), numba.carray(as_int64(special[-1]), 1 << 40)
    found, square = np.zeros((len(middles), 3)), np.zeros(len(middles))
    there = np.zeros(len(middles), np.bool_)
    for i in range(len(middles)):
        p, u = middles[i], ways[i]
        s, k, w1, w2 = nearest_of(p[0], p[1], p[2], u[0], u[1], u[2], i, numbers, places)
        if k >= 0:
            there[i], square[i] = True, s
            found[i, 0], found[i, 1], found[i, 2] = cage_point(k, w1, w2, numbers, places)
    return found, square, there


def _jumps(middles: F64, sheet: F64, found: F64, used: Any_, floor: float) -> Any_:
    """Cells whose neighbour on the sheet (U, V) takes a point of the cage much farther off than it lies itself."""
    jumps = np.zeros(len(middles), np.bool_)
    rows = np.flatnonzero(used)
    if len(rows) < 2:
        return jumps
    _, near = cKDTree(sheet[rows]).query(sheet[rows], min(7, len(rows)))
    for column in near.T[1:]:
        other = rows[column]
        apart = np.linalg.norm(middles[rows] - middles[other], axis=1)
        close = apart < 4 * np.median(apart)  # islands that only share UVs are no neighbours
        jumps[rows] |= close & (np.linalg.norm(found[rows] - found[other], axis=1) > JUMP * apart + floor)
    return jumps


def _sizes(triangles: F32) -> F64:
    middle = triangles.mean(axis=1, dtype=np.float64)
    return np.asarray(np.linalg.norm(triangles - middle[:, None], axis=2).max(axis=1), np.float64)


def _balls(corners: F32) -> F32:
    """A ball that holds each triangle: centre and radius, (K, 4)."""
    return np.concatenate([corners.mean(axis=1), _sizes(corners)[:, None] * 1.0001], axis=1).astype(np.float32)
