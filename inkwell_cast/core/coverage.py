"""Coverage: which of the sculpt's surface a cage holds, by how much it misses, and what reach would hold it."""

from dataclasses import dataclass, replace

import numba
import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from .arrays import F32, F64, I32, Bool
from .assembly import Assembly, Sculpt
from .cage import Cage, rays_of
from .field import Located
from .folds import folds_of
from .marks import Marks, marks_of
from .mesh import corner_positions
from .rays import make_ray
from .threads import in_batches

BINS = 60
ROOM = 1.04  # a suggestion leaves this much more than what was measured
MOST_IN_PLACES = 6000
MOST_PLACES = 12
APART = 1 / 40  # of the diagonal: outside points nearer than this belong to one place
TOLERANCE = 1e-6  # of the diagonal


@dataclass(frozen=True, slots=True)
class Place:
    """A place where the cage does not hold the sculpt: middle and radius, how far beyond, which side, and of what."""

    middle: tuple[float, float, float]
    radius: float
    beyond: float
    outside: bool
    part: str


@dataclass(frozen=True, slots=True)
class CageFacts:
    """Of the cage itself: mean distance from the low over its surface, and faces that are folded or cross others."""

    mean_outward: float
    folded: int
    crossing: int
    bad_faces: Marks


@dataclass(frozen=True, slots=True)
class Coverage:
    """What a cage holds of the surface that rays could see; distances in scene units, shares from 0 to 1.

    edges (BINS + 1,) and surface (BINS,) are the histogram of the reach that the sculpt needs, weighed by surface.
    `needed` is the outward and inward reach that would hold everything, `suggested` the same with a little room.
    outside (N, 3) float32 are the points that it does not hold.
    """

    held: float
    points: int
    points_outside: int
    points_below: int
    worst_outside: float
    worst_below: float
    needed: tuple[float, float]
    suggested: tuple[float, float]
    edges: F64
    surface: F64
    places: list[Place]
    outside: F32
    cage: CageFacts


def coverage(assembly: Assembly, sculpt: Sculpt, cage: Cage, located: Located, lows: Bool | None = None) -> Coverage:
    """How well a cage holds the sculpt as `field.locate` found it, for all lows or those marked in `lows (T,)`."""
    within = np.ones(len(cage.offsets), bool) if lows is None else lows
    chosen, facts = within[located.triangle], _cage_facts(assembly, cage, within)
    t, height, weight = located.triangle[chosen], located.height[chosen], located.weight[chosen]
    if not len(t):
        return replace(_NOTHING, cage=facts)
    above, below = np.empty(len(t), np.float32), np.empty(len(t), np.float32)
    b, rays = located.b[chosen], rays_of(assembly, cage)

    def work(i: int, j: int) -> None:
        _beyond(t[i:j], b[i:j], height[i:j], above[i:j], below[i:j], *rays.arrays)

    in_batches(len(t), work)
    reach, slack = located.reach[chosen], TOLERANCE * assembly.low.diagonal
    outside, under = above > slack, below > slack
    needed = max(float(reach.max()), 0.0), max(float(-reach.min()), 0.0)
    edges = np.linspace(-needed[1] - slack, needed[0] + slack, BINS + 1)
    surface, _ = np.histogram(reach, edges, weights=weight)
    lost, places = outside | under, located.place[chosen]
    beyond = np.maximum(above, below)[lost]
    return Coverage(
        held=float(weight[~lost].sum() / max(weight.sum(), 1e-300)),
        points=len(t),
        points_outside=int(outside.sum()),
        points_below=int(under.sum()),
        worst_outside=float(above.max()) if outside.any() else 0.0,
        worst_below=float(below.max()) if under.any() else 0.0,
        needed=needed,
        suggested=(round_up(needed[0] * ROOM), round_up(needed[1] * ROOM)),
        edges=edges,
        surface=surface,
        places=_places(
            places[lost],
            beyond,
            outside[lost],
            located.owner[chosen][lost],
            sculpt.keys,
            max(APART * assembly.low.diagonal, 4 * float(np.sqrt(weight.sum() / len(t)))),
        ),
        outside=places[lost],
        cage=facts,
    )


_NOTHING = Coverage(
    1, 0, 0, 0, 0, 0, (0, 0), (0, 0), np.linspace(-1, 1, BINS + 1), np.zeros(BINS), [], np.zeros((0, 3), np.float32),
    CageFacts(0, 0, 0, Marks()),
)  # fmt: skip


def _cage_facts(assembly: Assembly, cage: Cage, within: Bool) -> CageFacts:
    folds, low, channel = folds_of(assembly, cage), assembly.low, assembly.recipe.sheet.channel
    folded, crossing = folds.folded & within, folds.crossing & within
    uvs = low.uvs[channel].at_corners() if channel < len(low.uvs) else None
    marks = marks_of(low, folded | crossing, uvs, True)
    return CageFacts(_mean_length(assembly, cage, within), int(folded.sum()), int(crossing.sum()), marks)


def _mean_length(assembly: Assembly, cage: Cage, within: Bool) -> float:
    """Mean distance from the low to the cage over the surface of some triangles of the low."""
    p = corner_positions(assembly.low)[within].astype(np.float64)
    area = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    length = np.linalg.norm(cage.corners[within], axis=2).mean(axis=1)
    return float((area * length).sum() / max(area.sum(), 1e-300))


@numba.njit(cache=True, nogil=True)
def _beyond(triangle, b, height, above, below, points, offsets, inward, special):  # type: ignore[no-untyped-def]
    """How far each point lies above the cage, and how far below the end of its ray; negative where it is held."""
    for i in range(len(triangle)):
        t = triangle[i]
        ray = make_ray(t, b[i, 0], b[i, 1], b[i, 2], points, offsets, inward, special)
        above[i] = height[i] - ray[6]
        below[i] = ray[6] - ray[7] - height[i]


def round_up(value: float) -> float:
    """The next number with three figures."""
    if value <= 0:
        return 0.0
    step = 10.0 ** (np.floor(np.log10(value)) - 2)
    return float(np.ceil(value / step - 1e-4) * step)


def _places(points: F32, beyond: F32, outside: Bool, owner: I32, keys: tuple[str, ...], apart: float) -> list[Place]:
    """Points nearer than `apart` to each other as places, the worst first."""
    if not len(points):
        return []
    if len(points) > MOST_IN_PLACES:  # the worst of every place survive an even choice of the sorted ones
        even = np.linspace(0, len(points) - 1, MOST_IN_PLACES).astype(np.int64)
        keep = np.unique(np.concatenate([np.argsort(-beyond)[:1000], even]))
        apart *= max(1.0, float(np.sqrt(len(points) / len(keep))))
        points, beyond, outside, owner = points[keep], beyond[keep], outside[keep], owner[keep]
    pairs = cKDTree(points).query_pairs(apart, output_type="ndarray")
    near = coo_array((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(len(points), len(points)))
    count, group = connected_components(near, directed=False)
    found = []
    for n in range(count):
        rows = np.flatnonzero(group == n)
        worst = rows[np.argmax(beyond[rows])]
        low, high = points[rows].min(axis=0), points[rows].max(axis=0)
        x, y, z = ((low + high) / 2).tolist()
        radius = float(np.linalg.norm(high - low) / 2)
        found.append(Place((x, y, z), radius, float(beyond[worst]), bool(outside[worst]), keys[owner[worst]]))
    return sorted(found, key=lambda p: -p.beyond)[:MOST_PLACES]
