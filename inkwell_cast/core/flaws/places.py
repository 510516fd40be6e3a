"""Where a region of rows shows most, and the places that it parts into: each what one looks at together."""

import numpy as np

from ..base.array_types import F64, I64
from ..base.kernels import kernel
from ..base.on_demand import on_demand
from .flaw import Spot
from .texel_rows import TexelRows

cKDTree = on_demand("scipy.spatial", "cKDTree")

AROUND_SPOT, BETWEEN_SPOTS = 0.03, 0.1  # of the low's diagonal: what a spot stands for, and how far off the next lies
MOST_SPOTS, LEAST_SPOT, MOST_SPOTTED = 9, 0.2, 3000  # spots, how bad one is beside the worst, rows that they are among
TOGETHER = 0.12  # of the low's diagonal: how far from its worst place what one looks at together reaches
MOST_PLACES = 24
VALLEY, ONE_WAY = (
    0.5,
    0.5,
)  # of the worst of two places, what lies between them; and the cosine of how they may turn from their mean


def spot_of(seen: TexelRows, title: str, rows: I64) -> Spot:
    """Where some rows of one part lie."""
    low, high = seen.place[rows].min(axis=0), seen.place[rows].max(axis=0)
    x, y, z = ((low + high) / 2).tolist()
    context = seen.context
    triangles = context.low.triangles[seen.triangle[rows]]
    part = context.assembly.keys[context.low.mesh.objects[triangles[0]]]
    radius = float(np.linalg.norm(high - low) / 2)
    return Spot(
        title, part, (x, y, z), radius, seen.place[rows], triangles, lambda: context.warm.ground(context.low.mesh)
    )


def worst_places(seen: TexelRows, rows: I64) -> I64:
    """Of some rows those in whose surroundings most is seen to be wrong, the worst first, apart from each other."""
    some, places, around = _weighed(seen, rows)
    apart = BETWEEN_SPOTS * seen.context.assembly.low.diagonal
    return some[_apart(places, around, apart, LEAST_SPOT, MOST_SPOTS)]


def parted(seen: TexelRows, rows: I64) -> list[I64]:
    """The places in `rows` that a region of a large piece parts into, each around where it shows most.

    One place faces one way, and nothing in it looks much better than where it shows most. One, of all rows, for a
    region that is seen together.
    """
    places = seen.place[rows]
    reach = TOGETHER * seen.context.assembly.low.diagonal
    if np.linalg.norm(places.max(axis=0) - places.min(axis=0)) <= 2 * reach:
        return [np.arange(len(rows))]
    some, among, around = _weighed(seen, rows)
    turned = _turned(seen, rows)
    middles = some[_apart(turned[some], around, reach, 0.0, MOST_PLACES)]
    home = cKDTree(turned[middles]).query(turned)[1]
    facing = np.stack([seen.normal[rows[home == n]].sum(axis=0) for n in range(len(middles))])
    facing /= np.maximum(np.linalg.norm(facing, axis=1), 1e-12)[:, None]
    shown = _shown_between(among, around, home[some], AROUND_SPOT * seen.context.assembly.low.diagonal)
    place = _joined(shown, facing)
    return [np.flatnonzero(place[home] == number) for number in np.unique(place)]


def with_near_by(seen: TexelRows, rows: I64, told: list[I64], others: list[I64]) -> list[I64]:
    """Places of `rows` that are told, each with what lies near by of those that are too faint to be told alone."""
    near, found = TOGETHER * seen.context.assembly.low.diagonal, list(told)
    trees = [cKDTree(_turned(seen, rows[place])) for place in told]
    for other in others if told else []:
        away = np.stack([tree.query(_turned(seen, rows[other]))[0] for tree in trees])
        for number in range(len(told)):
            taken = other[(away.argmin(axis=0) == number) & (away[number] <= near)]
            found[number] = np.concatenate([found[number], taken])
    return found


def _turned(seen: TexelRows, rows: I64) -> F64:
    """Places and ways of rows as one (N, 6): what faces another way lies farther off."""
    reach = TOGETHER * seen.context.assembly.low.diagonal
    return np.concatenate([seen.place[rows], reach * seen.normal[rows]], axis=1)


def _shown_between(among: F64, around: F64, home: I64, near: float) -> F64:
    """What shows between cells (K, K), and in their worst places along the diagonal; home (N,) is the cell of each."""
    shown = np.zeros((int(home.max()) + 1,) * 2)
    links = cKDTree(among).query_pairs(near, output_type="ndarray")
    np.maximum.at(shown, (home[links[:, 0]], home[links[:, 1]]), around[links].min(axis=1))
    np.maximum.at(shown, (home, home), around)
    return np.maximum(shown, shown.T)


def _joined(shown: F64, facing: F64) -> I64:
    """Which place each of some cells (K,) belongs to.

    Cells are one place where what lies between shows nearly as much as they do, and all of it faces one way; facing
    (K, 3) are their unit normals.
    """
    place, worst = np.arange(len(shown)), np.diagonal(shown)
    a, b = np.triu_indices(len(shown), 1)
    for n in np.argsort(-shown[a, b], kind="stable"):
        both = (place == place[a[n]]) | (place == place[b[n]])
        way = facing[both].sum(axis=0)
        if shown[a[n], b[n]] > VALLEY * min(worst[a[n]], worst[b[n]]) and (
            facing[both] @ way
        ).min() > ONE_WAY * np.linalg.norm(way):
            place[both] = place[a[n]]
    return place


def _weighed(seen: TexelRows, rows: I64) -> tuple[I64, F64, F64]:
    """An even choice (N,) of places in `rows`, where they lie (N, 3), and what is seen to be wrong around each (N,).

    The latter beside the most, to nine digits: of two that see the same, the first is the worse on every machine.
    """
    some = np.unique(np.linspace(0, len(rows) - 1, min(len(rows), MOST_SPOTTED)).astype(np.int64))
    places, weight = seen.place[rows[some]], np.maximum(seen.looks.share[rows[some]], 0)
    near = AROUND_SPOT * seen.context.assembly.low.diagonal
    around = _sums_within(places, weight, near)
    return some, places, np.round(around / max(float(around.max()), 1e-300), 9)


@kernel
def _sums_within(places: F64, weight: F64, near: float) -> F64:
    """Of places (N, 3) the weights (N,) of all that lie so near to each, its own among them."""
    sums = weight.copy()
    for i in range(len(places)):
        for j in range(i + 1, len(places)):
            x, y, z = places[i, 0] - places[j, 0], places[i, 1] - places[j, 1], places[i, 2] - places[j, 2]
            if x * x + y * y + z * z <= near * near:
                sums[i] += weight[j]
                sums[j] += weight[i]
    return sums


def _apart(places: F64, around: F64, apart: float, least: float, most: int) -> list[int]:
    """The worst place, the worst of those farther from it, and so on, down to `least` of the worst."""
    chosen, free = list[int](), np.ones(len(places), bool)
    while len(chosen) < most and free.any():
        best = int(np.where(free, around, -1.0).argmax())
        if chosen and around[best] < least * around[chosen[0]]:
            break
        chosen.append(best)
        free &= np.linalg.norm(places - places[best], axis=1) > apart
    return chosen
