"""Rasterising: which triangle of the low each sample of a sheet belongs to.

Samples lie on a regular grid, s by s in a texel. UVs are rounded to whole fractions of a sample, so that edge tests
are exact in 64-bit integers and a shared edge belongs to exactly one side (top-left rule).
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..base.array_types import F32, F64, I32, I64, Bool
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.records import Record, record_kind, record_of, view

TILE = 32
UV_LIMIT = 64.0  # a triangle that strays further from the tile than this is left out: integers would overflow
UV_BITS = 23  # of a tile: what float32 keeps near 1, so that moving UVs by a tile changes nothing


GRID = record_kind(
    {"corners": (np.int64, 3, 2), "starts": np.int64, "listed": np.int32},
    width=np.int64,
    height=np.int64,
    side=np.int64,
    shift=np.int64,
    tiles_across=np.int64,
)


@dataclass(frozen=True, slots=True)
class Grid:
    """UV triangles on the integer grid of a sheet, binned to tiles.

    corners (T, 3, 2) int64 in fractions of a sample, x to the right and y downwards; `shift` bits make one sample.
    `side` samples in each direction of a texel. Triangles of tile k are `listed[starts[k]:starts[k + 1]]`, ascending.
    """

    width: int
    height: int
    side: int
    shift: int
    corners: I64
    starts: I64
    listed: I32
    outside: int

    @property
    def record(self) -> Record:
        """Of the kind `GRID`, for kernels."""
        return record_of(
            GRID,
            corners=self.corners,
            starts=self.starts,
            listed=self.listed,
            width=self.width,
            height=self.height,
            side=self.side,
            shift=self.shift,
            tiles_across=self.tiles_across,
        )

    @property
    def tiles_across(self) -> int:
        return -(-self.width // TILE)

    @property
    def busy_tiles(self) -> I64:
        """Tiles that at least one triangle may touch."""
        return np.flatnonzero(np.diff(self.starts))


def grid(uvs: F32 | F64, width: int, height: int, samples: int) -> Grid:
    """Lay triangles `uvs (T, 3, 2)` on a sheet. `outside` counts those that lie wholly off the tile."""
    side = round(samples**0.5)
    shift = UV_BITS - int(max(width, height) * side - 1).bit_length()
    scale = np.array([width * side, height * side], np.float64) * (1 << shift)
    usable: Bool = np.all(np.abs(uvs) < UV_LIMIT, axis=(1, 2))
    safe = np.where(usable[:, None, None], uvs, 0).astype(np.float64)
    safe[..., 1] = 1 - safe[..., 1]
    corners = np.rint(safe * scale).astype(np.int64)
    unit = TILE * side << shift
    low = np.floor_divide(corners.min(axis=1), unit)
    high = np.floor_divide(corners.max(axis=1), unit)
    tiles = np.array([-(-width // TILE), -(-height // TILE)])
    touching = usable & (high >= 0).all(axis=1) & (low < tiles).all(axis=1)
    low, high = np.clip(low, 0, tiles - 1), np.clip(high, 0, tiles - 1)
    starts, listed = _bin(np.flatnonzero(touching), low, high, int(tiles[0]), int(tiles[1]))
    return Grid(width, height, side, shift, corners, starts, listed, int(len(uvs) - touching.sum()))


@kernel
def _bin(triangles: I64, low: I64, high: I64, across: int, down: int) -> tuple[I64, I32]:
    starts = np.zeros(across * down + 1, np.int64)
    for t in triangles:
        for y in range(low[t, 1], high[t, 1] + 1):
            for x in range(low[t, 0], high[t, 0] + 1):
                starts[y * across + x + 1] += 1
    for k in range(across * down):
        starts[k + 1] += starts[k]
    listed = np.empty(starts[-1], np.int32)
    fill = starts[:-1].copy()
    for t in triangles:
        for y in range(low[t, 1], high[t, 1] + 1):
            for x in range(low[t, 0], high[t, 0] + 1):
                listed[fill[y * across + x]] = t
                fill[y * across + x] += 1
    return starts, listed


@kernel(inline="always")
def _edge(ax: float, ay: float, bx: float, by: float, x: float, y: float) -> float:
    return (bx - ax) * (y - ay) - (by - ay) * (x - ax)


@kernel
def _owns(dx: int, dy: int) -> bool:
    """Whether an edge of a triangle walked clockwise on a y-down sheet owns the samples that lie exactly on it."""
    return (dy == 0 and dx > 0) or dy < 0


@kernel
def fill_tile(owner: I32, x0: int, y0: int, side: int, shift: int, corners: I64, triangles: I32) -> int:
    """Write the triangle of each sample of a tile into `owner (h, w) int32`; the lowest index wins.

    x0, y0 is the tile's first sample. Returns how many samples more than one triangle asked for.
    """
    owner[:] = -1
    rows, columns = owner.shape
    half = np.int64(1) << (shift - 1)
    contested = 0
    for t in triangles:
        ax, ay = corners[t, 0, 0], corners[t, 0, 1]
        bx, by = corners[t, 1, 0], corners[t, 1, 1]
        cx, cy = corners[t, 2, 0], corners[t, 2, 1]
        area = _edge(ax, ay, bx, by, cx, cy)
        if area == 0:
            continue
        if area < 0:
            bx, by, cx, cy = cx, cy, bx, by
        first_x = max(((min(ax, bx, cx) - half) >> shift) - x0, 0)
        last_x = min(((max(ax, bx, cx) - half) >> shift) + 1 - x0, columns - 1)
        first_y = max(((min(ay, by, cy) - half) >> shift) - y0, 0)
        last_y = min(((max(ay, by, cy) - half) >> shift) + 1 - y0, rows - 1)
        ab = 0 if _owns(bx - ax, by - ay) else 1
        bc = 0 if _owns(cx - bx, cy - by) else 1
        ca = 0 if _owns(ax - cx, ay - cy) else 1
        x_start = ((x0 + first_x) << shift) + half
        for j in range(first_y, last_y + 1):
            y = ((y0 + j) << shift) + half
            on_ab, on_bc, on_ca = (
                _edge(ax, ay, bx, by, x_start, y) - ab,
                _edge(bx, by, cx, cy, x_start, y) - bc,
                _edge(cx, cy, ax, ay, x_start, y) - ca,
            )
            for i in range(first_x, last_x + 1):
                if (on_ab | on_bc | on_ca) >= 0:  # no sign bit set: on the inner side of all three
                    if owner[j, i] < 0:
                        owner[j, i] = t
                    else:
                        contested += 1
                on_ab -= (by - ay) << shift
                on_bc -= (cy - by) << shift
                on_ca -= (ay - cy) << shift
    return contested


@kernel(inline="always")
def barycentrics(corners: I64, t: int, x: int, y: int) -> Vector:
    """Barycentrics of a place on the integer grid in triangle t."""
    ax, ay = corners[t, 0, 0], corners[t, 0, 1]
    bx, by = corners[t, 1, 0], corners[t, 1, 1]
    cx, cy = corners[t, 2, 0], corners[t, 2, 1]
    share = 1 / np.float64(_edge(ax, ay, bx, by, cx, cy))
    b1 = _edge(cx, cy, ax, ay, x, y) * share
    b2 = _edge(ax, ay, bx, by, x, y) * share
    return 1 - b1 - b2, b1, b2


@kernel(inline="always")
def sample_barycentrics(t: int, x: int, y: int, i: int, j: int, grid: Record) -> Any:
    """Barycentrics of triangle t at sample (i, j), column and row, of texel (x, y); `grid` is a record."""
    corners, side, shift = view(grid, "corners"), grid.side, grid.shift
    half = np.int64(1) << (shift - 1)
    return barycentrics(corners, t, ((x * side + i) << shift) + half, ((y * side + j) << shift) + half)


@kernel
def texel_barycentrics(t: int, x: int, y: int, sample: int, grid: Record) -> Vector:
    """Barycentrics of triangle t at a texel's centre, or at a sample of it where the centre lies off the triangle.

    `sample` counts in rows; `grid` is a record of the kind `GRID`.
    """
    corners, side, shift = view(grid, "corners"), grid.side, grid.shift
    unit = side << shift
    b0, b1, b2 = barycentrics(corners, t, x * unit + unit // 2, y * unit + unit // 2)
    if b0 < 0 or b1 < 0 or b2 < 0:
        return sample_barycentrics(t, x, y, sample % side, sample // side, grid)
    return b0, b1, b2


@kernel(inline="always")
def tile_box(tile: int, grid: Record) -> tuple[int, int, int, int]:
    """First column, first row, columns and rows of a tile, in texels; `grid` is a record of the kind `GRID`."""
    x, y = (tile % grid.tiles_across) * TILE, (tile // grid.tiles_across) * TILE
    return x, y, min(TILE, grid.width - x), min(TILE, grid.height - y)
