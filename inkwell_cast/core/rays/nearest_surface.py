"""The nearest place of a surface, and how far off it is."""

import numpy as np

from ..base.array_types import F32, F64, I32, I64
from ..base.kernels import kernel
from ..base.on_demand import on_demand
from ..mesh.surface_samples import Surface, surface_of
from .closest_point import closest_on_triangle

cKDTree = on_demand("scipy.spatial", "cKDTree")

NEIGHBOURS = 8
SEEDS = 400_000


class NearestSurface:
    """Finds the nearest of some triangles: exactly among those whose spread places lie nearest."""

    def __init__(self, surface: Surface, seeds: int = SEEDS) -> None:
        self.surface = surface
        places, self._owners = surface.places(min(seeds, max(8 * len(surface.triangles), 20_000)))
        self._tree = cKDTree(places) if len(places) else None

    @classmethod
    def of(cls, parts: list[tuple[F32, I32]], seeds: int = SEEDS) -> "NearestSurface":
        """That of positions and triangles of one part or more."""
        return cls(surface_of(parts), seeds)

    def at(self, places: F64) -> tuple[F64, I64]:
        """Distance from places (N, 3) and the triangle that is nearest, (N,) each; infinite where there is none."""
        if self._tree is None or not len(places):
            return np.full(len(places), np.inf), np.zeros(len(places), np.int64)
        near = self._owners[self._tree.query(places, NEIGHBOURS, workers=-1)[1]]
        rows, candidates = np.unique(near, return_inverse=True)
        corners = self.surface.corners(rows)
        distance, owner = closest_of(places, candidates.reshape(near.shape).astype(np.int64), corners)
        return distance, rows[owner]


@kernel
def closest_of(places: F64, candidates: I64, corners: F64) -> tuple[F64, I64]:
    """Distance from places (N, 3) to the nearest of candidates (N, K), rows of corners (T, 3, 3), and which that is."""
    distance, owner = np.full(len(places), np.inf), np.zeros(len(places), np.int64)
    for i in range(len(places)):
        for t in candidates[i]:
            square, _, _ = closest_on_triangle(places[i, 0], places[i, 1], places[i, 2], corners, t)
            if square < distance[i]:
                distance[i], owner[i] = square, t
    return np.sqrt(distance), owner
