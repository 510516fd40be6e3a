"""A cage mesh of another topology than its low's: rays start at its nearest point, or it limits their length.

Where the cage lies on the low (a copy of it with more edge loops) its own averaged normals give the direction and the
reach the length; where it stands off, the nearest point gives both. Where no point of it agrees with the low, or
neighbours on the sheet would take points far apart, it only says how far out rays may start.

Every triangle of the low is cut into cells by its barycentrics, and each cell lists the cage triangles that can be the
nearest to a point in it.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

from ...base.array_types import F32, F64, I32, I64, AnyArray, Bool
from ...base.borrowed_arrays import keeping
from ...base.kernel_types import Vector
from ...base.kernels import kernel
from ...base.on_demand import on_demand
from ...base.records import Record, record_kind, record_of, view
from ...mesh.mesh import Mesh, corner_positions
from ...mesh.normals import averaged, with_normals
from ..closest_point import closest_on_triangle
from ..embree import Scene, Vertices, hit_along, tracers_of

cKDTree = on_demand("scipy.spatial", "cKDTree")

NEAR = 1e-3  # of the low's diagonal: closer than this the cage lies on the low
MOST_CELLS = 400_000
COARSEST, FINEST = 4, 24
FAR = 4.0  # cells to the way to the cage, at least
JUMP = 6.0  # times their own distance: neighbours on the sheet may take points of the cage that far apart
USABLE = 0.5  # of the low's surface; a cage that serves less of it only limits length
FOREIGN_CAGE = record_kind(
    {
        "grid": np.int32,
        "first": np.int64,
        "limited": np.bool_,
        "starts": np.int64,
        "listed": np.int32,
        "corners": (np.float64, 3, 3),
        "normals": (np.float64, 3, 3),
        "balls": (np.float64, 4),
        "tracers": (np.uint64, 2),
        "pair": np.int32,
    },
    near=np.float64,
)


@dataclass(frozen=True, slots=True)
class ForeignCage:
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
    tracers: AnyArray
    near: float

    def record(self, pair: I32) -> Record:
        """Of the kind `FOREIGN_CAGE`, for triangles of these pairs (P,)."""
        return record_of(
            FOREIGN_CAGE, grid=self.grid, first=self.first, limited=self.limited, starts=self.starts,
            listed=self.listed, corners=self.corners.astype(np.float64), normals=self.normals.astype(np.float64),
            balls=self.balls.astype(np.float64), tracers=self.tracers, pair=pair, near=self.near,
        )  # fmt: skip


def no_foreign_cage(triangles: int, pairs: int) -> ForeignCage:
    nothing, corners = np.zeros(0, np.int32), np.zeros((0, 3, 3), np.float32)
    return ForeignCage(
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


@dataclass(frozen=True, slots=True)
class Fitted:
    """A cage mesh laid over its low.

    share is the part of the low's surface whose rays start at it; limited (N, 3) float32 are places where it only
    limits the length; apart is the largest distance from the low to it.
    """

    share: float
    limited: F32
    apart: float


class ForeignCageBuilder:
    """Gathers the cages of several pairs into one `ForeignCage` for all triangles of the low.

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
        cells = cells_of(self.points[rows], self.directions[rows], corners, normals)
        before = sum(len(c) for c in self._corners), sum(len(c) for c in self._limited)
        self._grid[rows], self._first[rows] = cells.surface.grid, cells.surface.first + before[1]
        uvs = cells.middles if self.uvs is None else cells.at(self.uvs[rows])
        c, square, there = cells.nearest()
        limited = ~there | _jumps(cells.middles, uvs, c, cells.inside & there, 1e-3 * self.near / NEAR)
        share = float(cells.area[cells.inside & ~limited].sum() / max(cells.area[cells.inside].sum(), 1e-300))
        if share < USABLE:
            limited[:], share = True, 0.0
        self._corners.append(corners)
        self._normals.append(normals)
        self._limited.append(limited)
        self._counts.append(np.diff(cells.surface.starts))
        self._listed.append(cells.surface.listed + np.int32(before[0]))
        reach = np.sqrt(square[cells.inside & there])
        return Fitted(share, cells.middles[limited & cells.inside].astype(np.float32), float(reach.max(initial=0)))

    def _see(self, pair: int, cage: Mesh) -> None:
        """A scene that is struck from both sides."""
        both = np.concatenate([cage.triangles, cage.triangles[:, ::-1]]).astype(np.int32)
        self.scenes.append(Scene(Vertices(cage.positions), both))
        self._scene_of[pair] = len(self.scenes) - 1

    def surface(self) -> ForeignCage:
        corners = np.concatenate(self._corners)
        known = tracers_of(self.scenes)
        none = np.zeros((1, 2), np.uint64)
        tracers = keeping(np.concatenate([none, known])[np.array(self._scene_of) + 1], known)
        return ForeignCage(
            self._grid,
            self._first,
            np.concatenate(self._limited),
            np.cumsum(np.concatenate(self._counts)),
            np.concatenate(self._listed),
            corners,
            np.concatenate(self._normals),
            _balls(corners),
            tracers,
            self.near,
        )


@dataclass(frozen=True, slots=True)
class _Cells:
    """Cells (C,) of some triangles: their middles, the low's direction there, whether they lie inside, their area."""

    surface: ForeignCage
    owner: I64
    b: F64
    middles: F64
    ways: F64
    inside: AnyArray
    area: F64

    def nearest(self) -> tuple[F64, F64, AnyArray]:
        """For every cell the nearest agreeing point of the cage (C, 3), its squared distance, whether there is one."""
        record = self.surface.record(np.zeros(len(self.surface.grid), np.int32))
        return _closest_of_all(self.middles, self.ways, record)  # type: ignore[no-any-return]

    def at(self, values: F32) -> F64:
        """Values at corners (P, 3, k), interpolated at the middles."""
        return np.einsum("nk,nkc->nc", self.b, values[self.owner].astype(np.float64))


def cells_of(points: F32, directions: F32, corners: F32, normals: F32) -> _Cells:
    """Cut triangles (P, 3, 3) into cells and list for each the cage triangles that can be nearest to it."""
    balls = _balls(corners)
    middle, size = points.mean(axis=1, dtype=np.float64), _sizes(points)
    most = int(np.clip(np.sqrt(MOST_CELLS / max(len(points), 1)), 2, FINEST))
    away, _ = cKDTree(balls[:, :3]).query(middle)  # from afar the nearest point of a cage hardly moves
    wanted = np.ceil(2 * size / np.maximum(max(float(np.median(balls[:, 3])), 1e-300), away / FAR))
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
    cage, nothing = (corners, normals, balls), (np.zeros(0, np.int32), np.zeros(0, np.int64))
    starts, listed = _lists(middle, size, np.arange(len(points)), directions, cage, nothing)
    starts, listed = _lists(middles, 2.7 * size[owner] / grid[owner], owner, directions, cage, (listed, starts))
    surface = ForeignCage(
        grid,
        first,
        np.zeros(len(owner), np.bool_),
        starts,
        listed,
        corners,
        normals,
        balls,
        np.zeros((1, 2), np.uint64),
        0.0,
    )
    return _Cells(surface, owner, b, middles, ways, inside, area)


def _lists(
    middle: F64, size: F64, owner: I64, directions: F32, cage: tuple[F32, F32, F32], among: tuple[I32, I64]
) -> tuple[I64, I32]:
    """Which cage triangles can be nearest in each of some balls, out of those listed for their owner (all, if none)."""
    count = np.zeros(len(middle) + 1, np.int64)
    room = np.zeros(0, np.int32)
    _near(middle, size, owner, directions, cage, among, count, room)
    ends = np.cumsum(count)
    room = np.empty(int(ends[-1]), np.int32)
    if len(room):
        _near(middle, size, owner, directions, cage, among, ends, room)
    return ends, room


@kernel
def _near(
    middle: F64,
    size: F64,
    owner: I64,
    directions: F32,
    cage: tuple[F32, F32, F32],
    among: tuple[I32, I64],
    ends: I64,
    room: I32,
) -> None:
    """Count the cage triangles that can be nearest in ball i in `ends[i + 1]`, or write into `room` from `ends[i]`.

    middle (N, 3) and size (N,) of the balls, owner (N,) their triangle of the low; cage: corners and normals
    (K, 3, 3) and balls (K, 4); among: those listed for each owner, with starts, or both empty for all.
    """
    (corners, normals, balls), (listed, starts) = cage, among
    for i in range(len(middle)):
        t, x, y, z = owner[i], middle[i, 0], middle[i, 1], middle[i, 2]
        first, last = (starts[t], starts[t + 1]) if len(starts) else (0, len(corners))
        bound = np.inf
        for n in range(first, last):
            k = listed[n] if len(starts) else n
            dx, dy, dz = x - balls[k, 0], y - balls[k, 1], z - balls[k, 2]
            if np.sqrt(dx * dx + dy * dy + dz * dz) - balls[k, 3] < bound and _agree(normals[k], directions[t]):
                bound = min(bound, np.sqrt(closest_on_triangle(x, y, z, corners, k)[0]))
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


@kernel
def _agree(normals: F32, directions: F32) -> bool:
    """Whether all corners of a cage triangle look where all corners of a low triangle do."""
    for a in range(3):
        for b in range(3):
            if (
                normals[a, 0] * directions[b, 0] + normals[a, 1] * directions[b, 1] + normals[a, 2] * directions[b, 2]
                <= 0
            ):
                return False
    return True


@kernel
def _closest_of_all(middles: F64, ways: F64, cage: Record) -> tuple[F64, F64, Bool]:
    """`closest_in_cell` at the middle (N, 3) of every cell: places (N, 3), squared distances, whether there is one."""
    corners = view(cage, "corners")
    points, square = np.zeros((len(middles), 3)), np.zeros(len(middles))
    there = np.zeros(len(middles), np.bool_)
    for i in range(len(middles)):
        s, k, w1, w2 = closest_in_cell(middles[i], ways[i], i, cage)
        if k >= 0:
            there[i], square[i] = True, s
            points[i, 0], points[i, 1], points[i, 2] = _mixed(corners[k], w1, w2)
    return points, square, there


@kernel
def _mixed(corners: F64, w1: float, w2: float) -> Vector:
    """Values at three corners (3, 3), interpolated."""
    w0 = 1 - w1 - w2
    return (
        w0 * corners[0, 0] + w1 * corners[1, 0] + w2 * corners[2, 0],
        w0 * corners[0, 1] + w1 * corners[1, 1] + w2 * corners[2, 1],
        w0 * corners[0, 2] + w1 * corners[1, 2] + w2 * corners[2, 2],
    )


@kernel
def closest_in_cell(p: Any, u: Any, cell: int, cage: Record) -> tuple[float, int, float, float]:
    """The point nearest to p of a cell's cage triangles whose normal there agrees with u within 90 degrees.

    Gives (squared distance, triangle, w1, w2); triangle is -1 for none.
    """
    starts, listed = view(cage, "starts"), view(cage, "listed")
    corners = view(cage, "corners")
    normals = view(cage, "normals")
    balls = view(cage, "balls")
    best, chosen, c1, c2 = np.inf, -1, 0.0, 0.0
    for i in range(starts[cell], starts[cell + 1]):
        k = int(listed[i])
        dx, dy, dz = p[0] - balls[k, 0], p[1] - balls[k, 1], p[2] - balls[k, 2]
        away = np.sqrt(dx * dx + dy * dy + dz * dz) - balls[k, 3]
        if away > 0 and away * away >= best:
            continue
        square, w1, w2 = closest_on_triangle(p[0], p[1], p[2], corners, k)
        if square < best:
            x, y, z = _mixed(normals[k], w1, w2)
            if x * u[0] + y * u[1] + z * u[2] > 0:
                best, chosen, c1, c2 = square, k, w1, w2
    return best, chosen, c1, c2


@kernel
def through_cage(
    t: int, b1: float, b2: float, p: Vector, e: Vector, reach: float, modifiers: Record
) -> tuple[float, float, float, float]:
    """Direction and outward reach at a point p of triangle t by the nearest cage point; e is the low's direction."""
    cage = view(modifiers, "cage")
    grid = view(cage, "grid")[t]
    cell = view(cage, "first")[t] + min(int(b1 * grid), grid - 1) * grid + min(int(b2 * grid), grid - 1)
    if not view(cage, "limited")[cell]:
        square, k, w1, w2 = closest_in_cell(p, e, cell, cage)
        if k >= 0:
            near = square < cage.near**2
            values = view(cage, "normals") if near else view(cage, "corners")
            x, y, z = _mixed(values[k], w1, w2)
            if not near:
                x, y, z = x - p[0], y - p[1], z - p[2]
            length = max(np.sqrt(x * x + y * y + z * z), 1e-30)
            return x / length, y / length, z / length, reach if near else length
    tracer = view(cage, "tracers")[view(cage, "pair")[t]]
    length, _, _, hit = hit_along(tracer[0], tracer[1], p[0], p[1], p[2], e[0], e[1], e[2], 1e30)
    return e[0], e[1], e[2], np.float64(length) if hit >= 0 else reach


def _jumps(middles: F64, sheet: F64, points: F64, used: AnyArray, floor: float) -> AnyArray:
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
        jumps[rows] |= close & (np.linalg.norm(points[rows] - points[other], axis=1) > JUMP * apart + floor)
    return jumps


def _sizes(triangles: F32) -> F64:
    middle = triangles.mean(axis=1, dtype=np.float64)
    return np.asarray(np.linalg.norm(triangles - middle[:, None], axis=2).max(axis=1), np.float64)


def _balls(corners: F32) -> F32:
    """A ball that holds each triangle: centre and radius, (K, 4)."""
    return np.concatenate([corners.mean(axis=1), _sizes(corners)[:, None] * 1.0001], axis=1).astype(np.float32)
