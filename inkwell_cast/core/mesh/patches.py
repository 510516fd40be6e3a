"""Patches: the vertices of a fine surface gathered into cells, so that diffusion over many triangles takes few steps.

Vertices of one cell of a grid whose normals look the same way are a patch, with their mass and mean values. Patches
that touch are linked by finite volumes: the length of their border over the way between their middles, where the
border's normals are summed as vectors, so that its zigzag does not count.
"""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, F64, I32, I64
from ..base.kernels import kernel
from ..base.progress import Cancel
from ..base.threads import in_batches, in_shares
from .cells import EMPTY, numbered_cells
from .diffusion import Links, links_by_row
from .normals import face_normal

NEAR = 12  # patches of higher numbers that touch one; what few there are beyond them is left out
WIDE = 1.5  # cells: how far a patch counts where values are spread to vertices again


@dataclass(frozen=True, slots=True)
class Patches:
    """of (V,) int32 names each vertex's patch; mass (P,), means (P,) of what was gathered, middles (P, 3) scene units,
    links; cell, their width."""

    of: I32
    mass: F64
    means: F64
    middles: F64
    links: Links
    cell: float

    def spread(self, values: F64, points: F32) -> F32:
        """Values of patches (P,) at vertices (V,), smooth from patch to patch."""
        out = np.empty(len(points), np.float32)
        beside = self.of, values, self.middles, self.links.starts, self.links.others, WIDE * self.cell
        in_batches(len(points), lambda first, last: _spread(first, last, points, *beside, out))
        return out


def patches_of(
    points: F32, normals: F32, corners: I32, sums: F64, mass: F64, cell: float, cancelled: Cancel = lambda: False
) -> Patches:
    """Those of triangles (T, 3) over points (V, 3) with unit normals, in cells so wide, scene units.

    sums and mass (V,) are what is gathered, and what each vertex weighs. Raises Cancelled.
    """
    of, first_of = numbered_cells(points, cell, normals, cancelled)
    count = len(first_of)
    total = np.zeros((count, 5))
    in_shares(count, lambda first, last: _gather(first, last, points, of, sums, mass, total))
    total[:, 1:] /= np.maximum(total[:, :1], 1e-300)
    middles = np.ascontiguousarray(total[:, 1:4])
    others, borders = np.full((count, NEAR), EMPTY, np.int32), np.zeros((count, NEAR, 3), np.float32)
    in_shares(count, lambda first, last: _borders(first, last, points, corners, of, others, borders))
    links = links_by_row(*_rows(others, borders, middles, cell))
    return Patches(of, total[:, 0].copy(), total[:, 4].copy(), middles, links, cell)


@kernel
def _gather(first: int, last: int, points: F32, of: I32, sums: F64, mass: F64, total: F64) -> None:
    """Of patches first to last: mass, mass times place, sums, (P, 5)."""
    for v in range(len(of)):
        if first <= of[v] < last:
            row = total[of[v]]
            row[0] += mass[v]
            for k in range(3):
                row[1 + k] += mass[v] * points[v, k]
            row[4] += sums[v]


@kernel(error_model="numpy")
def _borders(first: int, last: int, points: F32, corners: I32, of: I32, others: I32, borders: F32) -> None:
    """What touches patches first to last, of higher numbers (P, NEAR), and the borders' normals times length, summed
    (P, NEAR, 3)."""
    for t in range(len(corners)):
        p, q, r = of[corners[t, 0]], of[corners[t, 1]], of[corners[t, 2]]
        if (p == q and q == r) or not (first <= p < last or first <= q < last or first <= r < last):
            continue
        a, b, c = points[corners[t, 0]], points[corners[t, 1]], points[corners[t, 2]]
        nx, ny, nz = face_normal(a, b, c)
        for i in range(3):
            one, other = of[corners[t, i]], of[corners[t, (i + 1) % 3]]
            low, high = min(one, other), max(one, other)
            if low == high or not first <= low < last:
                continue
            place = 0
            while place < NEAR and others[low, place] != high and others[low, place] != EMPTY:
                place += 1
            if place == NEAR:
                continue
            others[low, place], row = high, borders[low, place]
            e, f = points[corners[t, i]], points[corners[t, (i + 1) % 3]]
            # from the middle of the edge to that of the triangle
            x = (np.float64(a[0]) + b[0] + c[0]) / 3 - (np.float64(e[0]) + f[0]) / 2
            y = (np.float64(a[1]) + b[1] + c[1]) / 3 - (np.float64(e[1]) + f[1]) / 2
            z = (np.float64(a[2]) + b[2] + c[2]) / 3 - (np.float64(e[2]) + f[2]) / 2
            x, y, z = y * nz - z * ny, z * nx - x * nz, x * ny - y * nx
            sign = 1.0 if one == low else -1.0
            if x * (f[0] - e[0]) + y * (f[1] - e[1]) + z * (f[2] - e[2]) < 0:
                sign = -sign
            row[0], row[1], row[2] = row[0] + sign * x, row[1] + sign * y, row[2] + sign * z


@kernel(error_model="numpy")
def _weight(one: int, other: int, border: F32, middles: F64, cell: float) -> float:
    """The length of a border over the way between the middles of its two patches."""
    square = along = 0.0
    for k in range(3):
        way = middles[other, k] - middles[one, k]
        square += way * way
        along += border[k] * way
    far = np.sqrt(square)
    return abs(along) / max(far, 1e-300) / max(far, cell / 3)


@kernel
def _rows(others: I32, borders: F32, middles: F64, cell: float) -> tuple[I64, I32, F32]:
    """Links both ways, row by row: where each begins (P + 1,), what it links to, and weights."""
    count = len(others)
    starts = np.zeros(count + 1, np.int64)
    for one in range(count):
        for other in others[one]:
            if other != EMPTY:
                starts[one + 1] += 1
                starts[other + 1] += 1
    for one in range(count):
        starts[one + 1] += starts[one]
    at, beside, weights = starts.copy(), np.empty(starts[count], np.int32), np.empty(starts[count], np.float32)
    for one in range(count):
        for n in range(NEAR):
            other = others[one, n]
            if other != EMPTY:
                weight = _weight(one, other, borders[one, n], middles, cell)
                beside[at[one]], weights[at[one]] = other, weight
                beside[at[other]], weights[at[other]] = one, weight
                at[one], at[other] = at[one] + 1, at[other] + 1
    return starts, beside, weights


@kernel
def _spread(
    first: int,
    last: int,
    points: F32,
    of: I32,
    values: F64,
    middles: F64,
    starts: I64,
    others: I32,
    wide: float,
    out: F32,
) -> None:
    """Values of a vertex's patch and of those that touch it, weighted by how near their middles lie."""
    for v in range(first, last):
        own, total, weights = of[v], 0.0, 0.0
        for n in range(starts[own] - 1, starts[own + 1]):
            patch = own if n < starts[own] else others[n]
            square = 0.0
            for k in range(3):
                square += (points[v, k] - middles[patch, k]) ** 2
            near = max(1 - square / (wide * wide), 1e-6 if patch == own else 0.0)
            total += near * near * values[patch]
            weights += near * near
        out[v] = total / weights
