"""Points of a surface grouped to places that can be listed, clicked and gone to."""

from dataclasses import dataclass
from typing import Literal

import numpy as np

from ..base.array_types import F32, F64, I32
from ..base.on_demand import on_demand

coo_array = on_demand("scipy.sparse", "coo_array")
connected_components = on_demand("scipy.sparse.csgraph", "connected_components")
cKDTree = on_demand("scipy.spatial", "cKDTree")

MOST_GROUPED = 6000
MOST_PLACES = 12
APART = 1 / 40  # of the diagonal: points nearer than this belong to one place

Lack = Literal["outside", "below", "missed", "behind"]
LACKS: tuple[Lack, ...] = ("outside", "below", "missed", "behind")


@dataclass(frozen=True, slots=True)
class Shortfall:
    """Where a cage falls short: middle and radius, by how much, in what way, and of what part; scene units.

    Sculpt lies "outside" the cage or "below" the inner reach by so much; rays of the low "missed" everything over that
    radius, or start that far "behind" another surface. `facing` is the mean of the low's normals there: short where the
    place goes round the low.
    """

    middle: tuple[float, float, float]
    radius: float
    beyond: float
    lack: Lack
    part: str
    facing: tuple[float, float, float]


def shortfalls_of(
    points: F32, beyond: F32, lack: I32, owner: I32, keys: tuple[str, ...], apart: float, facing: F64
) -> list[Shortfall]:
    """Points (N, 3) nearer than `apart` to each other as places, the worst first; lack (N,) counts `LACKS`.

    facing (N, 3) are the low's unit normals where the points are seen.
    """
    if not len(points):
        return []
    if len(points) > MOST_GROUPED:  # the worst of every place survive an even choice of the sorted ones
        even = np.linspace(0, len(points) - 1, MOST_GROUPED).astype(np.int64)
        keep = np.unique(np.concatenate([np.argsort(-beyond)[:1000], even]))
        apart *= max(1.0, float(np.sqrt(len(points) / len(keep))))
        points, beyond, lack, owner, facing = points[keep], beyond[keep], lack[keep], owner[keep], facing[keep]
    pairs = cKDTree(points).query_pairs(apart, output_type="ndarray")
    near = coo_array((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(len(points), len(points)))
    count, group = connected_components(near, directed=False)
    clusters = []
    for n in range(count):
        rows = np.flatnonzero(group == n)
        worst = rows[np.argmax(beyond[rows])]
        low, high = points[rows].min(axis=0), points[rows].max(axis=0)
        x, y, z = ((low + high) / 2).tolist()
        radius = float(np.linalg.norm(high - low) / 2)
        fx, fy, fz = facing[rows].mean(axis=0).tolist()
        part, kind = keys[owner[worst]], LACKS[lack[worst]]
        clusters.append(Shortfall((x, y, z), radius, float(beyond[worst]), kind, part, (fx, fy, fz)))
    return sorted(clusters, key=lambda p: (-p.beyond, -p.radius))[:MOST_PLACES]
