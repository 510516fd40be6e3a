"""How soon a viewer notices a place: where there is fine detail, on the side that has most of it.

The detail of a place is how far the sculpt's unit normals n around it turn from their mean, sqrt(1 - |mean n|). A face
has more of it than the back of the head, and what has most of it is what one looks at from in front.
"""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F64, I64, AnyArray
from ..base.on_demand import on_demand
from .texel_rows import TexelRows

cKDTree = on_demand("scipy.spatial", "cKDTree")

AROUND = 0.05  # of the low's diagonal: what one sees along with a place
SAMPLES, PLACES = 8000, 800  # of a sheet: rows whose normals count, and those at which detail is measured
HEALTHY = 4.0  # degrees above the best on this low: what looks worse tells nothing of the sculpt's detail
LEAST, MOST = 0.5, 2.0  # times: what detail makes of a flaw


@dataclass(frozen=True, slots=True)
class Eye:
    """Where the eye goes on a sheet: places (N, 3) with the sculpt's unit normals (N, 3), and the usual detail.

    front (3,) leans to where most detail faces: 0 for a piece that is alike all around, at most 1 long.
    """

    places: F64
    normals: F64
    around: float
    usual: float
    front: F64

    def draws(self, places: AnyArray, normal: AnyArray) -> float:
        """How many times as soon as elsewhere something is noticed at places (K, 3) that face `normal` (3,)."""
        if not len(self.places) or self.usual <= 0.0:
            return 1.0
        detail = float(_detail(self.places, self.normals, np.asarray(places, np.float64), self.around).mean())
        facing = 1.0 + float(np.asarray(normal) @ self.front)
        return float(np.clip(detail / self.usual, LEAST, MOST)) * facing


def eye_of(seen: TexelRows) -> Eye:
    """Where the eye goes on a sheet."""
    cast = seen.context.cast
    healthy = np.flatnonzero((seen.struck > 0) & (seen.looks.excess <= HEALTHY))
    rows = healthy[_evenly(len(healthy), SAMPLES)]
    normals = cast.normal[seen.y[rows], seen.x[rows]].astype(np.float64)
    length = np.linalg.norm(normals, axis=1)
    rows, normals = rows[length > 0], normals[length > 0] / length[length > 0, None]
    places, around = seen.place[rows].astype(np.float64), AROUND * seen.context.assembly.low.diagonal
    if not len(rows):
        return Eye(places, normals, around, 0.0, np.zeros(3))
    some = _evenly(len(rows), PLACES)
    detail = _detail(places, normals, places[some], around)
    weight = detail * seen.looks.pixels[rows[some]]
    front = (weight[:, None] * normals[some]).sum(axis=0) / max(float(weight.sum()), 1e-12)
    return Eye(places, normals, around, float(np.median(detail)), front)


def _evenly(count: int, most: int) -> I64:
    return np.unique(np.linspace(0, max(count - 1, 0), min(count, most)).astype(np.int64))


def _detail(places: F64, normals: F64, at: F64, around: float) -> F64:
    """How far normals (N, 3) at places (N, 3) turn from their mean around each of `at` (K, 3)."""
    near = cKDTree(places).query_ball_point(at, around)
    means = np.array([np.linalg.norm(normals[each].mean(axis=0)) if each else 1.0 for each in near])
    return np.sqrt(np.maximum(1.0 - means, 0.0))
