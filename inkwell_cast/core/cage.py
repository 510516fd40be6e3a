"""The cage: where rays start. It is a cage mesh that matches its low, else the low pushed outward."""

from dataclasses import dataclass

import numpy as np

from .arrays import F32, I32, Bool
from .assembly import Assembly
from .edges import edges_of
from .levels import in_force, scopes
from .mesh import Mesh, corner_positions
from .normals import averaged


@dataclass(frozen=True, slots=True)
class Cage:
    """offsets (T, 3, 3) float32: from each corner of the low to the cage; inward (T,) float32: how far below rays go.

    from_file names the pairs whose cage mesh is in force.
    """

    offsets: F32
    inward: F32
    from_file: tuple[str, ...] = ()


def directions_of(assembly: Assembly) -> F32:
    """The directions in which the cage leaves the low's corners, (T, 3, 3) float32, unit.

    Averaged over all faces that meet there, or each face's own where the recipe splits them at hard edges.
    """
    low = assembly.low
    if assembly.recipe.reach.directions == "averaged" or low.normals is None:
        return averaged(low)
    return np.ascontiguousarray(low.normals.at_corners())


def lows_of(assembly: Assembly, scope: str) -> Bool:
    """The triangles of the low that a scope speaks of, (T,) bool."""
    keys = [
        scope in scopes(pair.name if (pair := assembly.paired.pair_of(key)) else "", key) for key in assembly.keys
    ]  # fmt: skip
    return np.array(keys, bool)[assembly.low.objects]


def build_cage(assembly: Assembly, lengths: F32 | None = None) -> Cage:
    """The cage of every low: its pair's cage mesh where that fits, else its reach along its directions.

    `lengths (T, 3)` are those of a fitted cage and take the place of the outward reach; see `fit.cage_of`.
    """
    outward, inward = reaches(assembly)
    smallest = np.float32(1e-6 * max(assembly.low.diagonal, 1e-20))  # where the reach is zero the direction stays
    long = outward[:, None] if lengths is None else lengths
    offsets = np.asarray(directions_of(assembly) * np.maximum(long, smallest)[..., None], np.float32)
    fitting = []
    for n, cage in enumerate(assembly.cages):
        rows = assembly.low_pair == n
        if cage is not None and matches(cage, pattern_of(assembly.low, rows)):
            offsets[rows] = corner_positions(cage) - corner_positions(assembly.low)[rows]
            fitting.append(assembly.paired.pairs[n].name)
    return Cage(offsets, inward, tuple(fitting))


def reaches(assembly: Assembly) -> tuple[F32, F32]:
    """Outward and inward reach of every triangle of the low in scene units, (T,) float32 each."""
    recipe, diagonal = assembly.recipe, assembly.low.diagonal
    by_object = []
    for key in assembly.keys:
        pair = assembly.paired.pair_of(key)
        found = in_force(recipe, scopes(pair.name if pair else "", key))
        own = recipe.reach.model_copy(update={"outward": found["outward"].value, "inward": found["inward"].value})
        by_object.append(own.in_scene_units(diagonal))
    table = np.array(by_object, np.float32).reshape(-1, 2)[assembly.low.objects]
    return table[:, 0].copy(), table[:, 1].copy()


def pattern_of(mesh: Mesh, rows: Bool) -> I32:
    """How some triangles of a mesh hang together, for `matches`."""
    return _pattern(edges_of(mesh).ids[rows])


def matches(cage: Mesh, pattern: I32) -> bool:
    """Whether a cage has the low's faces over the low's vertices, in the same order."""
    return len(cage.triangles) == len(pattern) and np.array_equal(_pattern(edges_of(cage).ids), pattern)


def _pattern(ids: I32) -> I32:
    """Vertices numbered in the order in which corners meet them, (T, 3)."""
    _, first, place = np.unique(ids.reshape(-1), return_index=True, return_inverse=True)
    rank = np.empty(len(first), np.int32)
    rank[np.argsort(first)] = np.arange(len(first), dtype=np.int32)
    return rank[place].reshape(ids.shape)
