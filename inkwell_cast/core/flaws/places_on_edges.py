"""Places along some edges of the low, as close as texels, and the rows that lie beside them."""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F64, I64, Bool
from ..base.on_demand import on_demand
from ..mesh.mesh import corner_positions
from .texel_rows import TexelRows

cKDTree = on_demand("scipy.spatial", "cKDTree")

MOST_PLACES = 200_000
NEAR = 2.0  # texels: how far from an edge a row stands for it


@dataclass(frozen=True, slots=True)
class PlacesOnEdges:
    """Places (N, 3), how far each is along its edge from 0 to 1, and that edge as triangle and side, (N,) each."""

    places: F64
    share: F64
    triangle: I64
    side: I64

    def at(self, rows: Bool) -> "PlacesOnEdges":
        return PlacesOnEdges(self.places[rows], self.share[rows], self.triangle[rows], self.side[rows])

    def rows_beside(self, seen: TexelRows) -> tuple[I64, I64]:
        """Rows within `NEAR` texels of a place, and the nearest place of each."""
        if not len(self.places) or not len(seen.x):
            return np.zeros(0, np.int64), np.zeros(0, np.int64)
        limit = NEAR * texel_of(seen) * seen.step
        distance, near = cKDTree(self.places).query(seen.place, distance_upper_bound=limit)
        rows = np.flatnonzero(np.isfinite(distance))
        return rows, near[rows]


def texel_of(seen: TexelRows) -> float:
    """The usual side of a texel on the surface."""
    return float(np.median(seen.size)) / seen.step


def places_on_edges(seen: TexelRows, edges: Bool) -> PlacesOnEdges:
    """Places along edges (T, 3) of the joined low, a texel apart or more."""
    t, k = np.nonzero(edges)
    points = corner_positions(seen.context.assembly.low).astype(np.float64)
    a, b = points[t, k], points[t, (k + 1) % 3]
    long = np.linalg.norm(b - a, axis=1)
    each = np.ceil(long / max(texel_of(seen), long.sum() / MOST_PLACES, 1e-30)).astype(np.int64)
    edge = np.repeat(np.arange(len(t)), each)
    share = (np.arange(len(edge)) - np.repeat(np.cumsum(each) - each, each) + 0.5) / each[edge]
    places = a[edge] + share[:, None] * (b - a)[edge]
    return PlacesOnEdges(places, share, t[edge].astype(np.int64), k[edge].astype(np.int64))
