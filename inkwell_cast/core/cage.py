"""The cage: where rays start. It is a cage mesh that matches its low, else the low pushed outward."""

from dataclasses import dataclass

import numba
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

    pockets (K, 7) float32 hold centre, radius, rim, outward and inward reach of each, scene units. from_file names
    the pairs whose cage mesh is in force.
    """

    offsets: F32
    inward: F32
    pockets: F32
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
    return Cage(offsets, inward, pockets_of(assembly), tuple(fitting))


def corner_offsets(low: Mesh, cage: Cage) -> F32:
    """From each corner of the low to where its ray starts, pockets included: (T, 3, 3) float32.

    A pocket inside a face changes the rays there without touching its corners, so this is what can be drawn or exported
    of a cage, not the whole of it.
    """
    out = cage.offsets.copy()
    if len(cage.pockets):
        _apply_pockets(corner_positions(low).reshape(-1, 3), out.reshape(-1, 3), cage.pockets)
    return out


@numba.njit(cache=True, nogil=True)
def _apply_pockets(points, offsets, pockets):  # type: ignore[no-untyped-def]
    for i in range(len(points)):
        length = np.sqrt(offsets[i, 0] ** 2 + offsets[i, 1] ** 2 + offsets[i, 2] ** 2)
        if length > 0:
            out, _ = in_pockets(points[i, 0], points[i, 1], points[i, 2], np.float64(length), 0.0, pockets)
            for k in range(3):
                offsets[i, k] *= out / length


def pockets_of(assembly: Assembly) -> F32:
    """The recipe's pockets as rows of numbers, see `Cage`."""
    scale = assembly.recipe.reach.scale(assembly.low.diagonal)
    own = assembly.recipe.pockets
    rows = [[*p.centre, p.radius * scale, p.rim, p.outward * scale, p.inward * scale] for p in own]
    return np.array(rows, np.float32).reshape(-1, 7)


@numba.njit(cache=True, nogil=True, inline="always")
def in_pockets(x, y, z, out, inward, pockets):  # type: ignore[no-untyped-def]
    """Outward and inward reach at a place of the low, with the pockets it lies in: full inside, smooth over the rim."""
    for k in range(len(pockets)):
        dx, dy, dz = x - pockets[k, 0], y - pockets[k, 1], z - pockets[k, 2]
        share = np.sqrt(dx * dx + dy * dy + dz * dz) / pockets[k, 3]
        if share >= 1:
            continue
        inner = 1 - pockets[k, 4]
        s = 1.0 if share <= inner else (1 - share) / (1 - inner)
        weight = s * s * (3 - 2 * s)
        out += weight * (pockets[k, 5] - out)
        inward += weight * (pockets[k, 6] - inward)
    return out, inward


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
