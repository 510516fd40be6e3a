"""The fitted cage: for every vertex of the low the shortest offset that holds the sculpt, smoothly.

A linear program over the offsets o of the low's vertices. A point of the sculpt at barycentrics b and height s along
the ray field asks b · o >= s + clearance; neighbours may differ by at most SLOPE times the length of their edge; no
offset may reach where a face of the cage would fold. What is least is the sum of the offsets, weighed with the surface
around each vertex. Offsets of different lengths turn the rays a little, so the sculpt is located again on the rays of
the cage found, and points that it does not hold are asked for with what they lack, until none is left.

Solved by HiGHS (Q. Huangfu and J. Hall, "Parallelizing the dual revised simplex method", 2018) through SciPy, object
by object.
"""

from dataclasses import dataclass

import numpy as np
from scipy.optimize import linprog
from scipy.sparse import coo_array, csr_array, vstack
from scipy.sparse.csgraph import dijkstra

from .arrays import F32, F64, I32, I64, Bool
from .assembly import Assembly, Sculpt, Warm
from .cage import Cage, build_cage, directions_of
from .edges import edges_of
from .field import Located, locate, located_of
from .mesh import corner_positions

SLOPE = 1.0
CELLS = 4  # a face is cut into CELLS x CELLS cells; only the highest point of each is asked for at first
ROUNDS = 6
FOLD_SHARE = 0.9  # of the way to where a face would fold
LEAST = 1e-5  # of the diagonal: a cage never lies on the sculpt
FINE = 1e-4  # of the clearance: what may be lacking in the end


@dataclass(frozen=True, slots=True)
class _Surface:
    """The low's vertices: ids (T, 3) int32 from 0, links (L, 2) and their lengths, area around and limit of each."""

    ids: I32
    links: I64
    lengths: F64
    area: F64
    limit: F64


def cage_of(assembly: Assembly, warm: Warm) -> Cage:
    """The cage in force: even, or fitted to the sculpt (computed once for the same meshes and clearance)."""
    reach = assembly.recipe.reach
    if reach.shape == "even" or not assembly.paired.pairs:
        return build_cage(assembly)
    sculpt, located = warm.sculpt(assembly), located_of(assembly, warm)
    clearance = max(reach.clearance * reach.scale(assembly.low.diagonal), LEAST * assembly.low.diagonal)
    key = f"{assembly.digest()} {id(sculpt)} {clearance}"
    return build_cage(assembly, warm.once("fit", key, lambda: fit_offsets(assembly, sculpt, located, clearance)))


def fit_offsets(assembly: Assembly, sculpt: Sculpt, located: Located, clearance: float) -> F32:
    """Lengths of the cage's offsets at the low's corners, (T, 3) float32; they and `clearance` in scene units."""
    surface = _surface(assembly, directions_of(assembly).astype(np.float64))
    object_of = np.zeros(len(surface.area), np.int64)
    object_of[surface.ids] = assembly.low.objects[:, None]
    rows, asked = _asks(surface, located, clearance, np.ones(len(located.reach), bool))
    offsets = _solve(surface, object_of, rows, asked, clearance)
    directions = directions_of(assembly)
    for _ in range(ROUNDS):
        found = locate(assembly, sculpt, directions * offsets[surface.ids][..., None].astype(np.float32))
        own = np.einsum("nk,nk->n", found.b, offsets[surface.ids[found.triangle]])
        lacking = found.reach * own > own - clearance * (1 - FINE)
        if not lacking.any():
            break
        more = _asks(surface, found, clearance, lacking, own)
        rows, asked = vstack([rows, more[0]]).tocsr(), np.concatenate([asked, more[1]])
        offsets = _solve(surface, object_of, rows, asked, clearance)
    return np.asarray(offsets[surface.ids], np.float32)


def _surface(assembly: Assembly, directions: F64) -> _Surface:
    low = assembly.low
    points = corner_positions(low).astype(np.float64)
    _, place = np.unique(edges_of(low).ids.reshape(-1), return_inverse=True)
    ids = place.reshape(-1, 3).astype(np.int32)
    count = int(ids.max()) + 1
    ends = np.concatenate([ids[:, [0, 1]], ids[:, [1, 2]], ids[:, [2, 0]]]).astype(np.int64)
    ends.sort(axis=1)
    links, first = np.unique(ends, axis=0, return_index=True)
    sides = np.concatenate([points[:, 1] - points[:, 0], points[:, 2] - points[:, 1], points[:, 0] - points[:, 2]])
    lengths = np.linalg.norm(sides[first], axis=1)
    keep = links[:, 0] != links[:, 1]
    normal = np.cross(points[:, 1] - points[:, 0], points[:, 2] - points[:, 0])
    around = np.repeat(np.linalg.norm(normal, axis=1) / 6, 3)
    area = np.asarray(np.bincount(ids.reshape(-1), around, count), np.float64)
    limit = np.full(count, np.inf)
    np.minimum.at(limit, ids, _folds_at(points, directions, normal)[:, None] * FOLD_SHARE)
    links, lengths = links[keep], lengths[keep]
    return _Surface(ids, links, lengths, area, _smoothest(limit, links, lengths))


def _folds_at(points: F64, directions: F64, normal: F64) -> F64:
    """How far each face can be pushed out evenly before its normal turns against the low's; infinite for never."""
    u0, v0 = points[:, 1] - points[:, 0], points[:, 2] - points[:, 0]
    u1, v1 = directions[:, 1] - directions[:, 0], directions[:, 2] - directions[:, 0]
    c = np.einsum("tk,tk->t", np.cross(u0, v0), normal)
    b = np.einsum("tk,tk->t", np.cross(u0, v1) + np.cross(u1, v0), normal)
    a = np.einsum("tk,tk->t", np.cross(u1, v1), normal)
    with np.errstate(divide="ignore", invalid="ignore"):
        root = np.sqrt(b * b - 4 * a * c)
        # the smallest positive root of a s^2 + b s + c, in the form that stays exact for a near zero
        candidates = np.stack([2 * c / (-b + root), 2 * c / (-b - root)])
    candidates[~(candidates > 0)] = np.inf
    return np.where(c > 0, candidates.min(axis=0), np.inf)


def _smoothest(limit: F64, links: I64, lengths: F64) -> F64:
    """The highest limits that no vertex exceeds and that differ between neighbours no more than offsets may."""
    bounded = np.flatnonzero(np.isfinite(limit))
    if not len(bounded):
        return limit
    count = len(limit)
    # one more vertex, linked to every bounded one with its limit: the way from it is the limit wanted
    rows = np.concatenate([links[:, 0], np.full(len(bounded), count)])
    columns = np.concatenate([links[:, 1], bounded])
    ways = np.concatenate([lengths * SLOPE, np.maximum(limit[bounded], 1e-12)])
    graph = coo_array((ways, (rows, columns)), shape=(count + 1, count + 1)).tocsr()
    return np.asarray(dijkstra(graph, directed=False, indices=count)[:count])


def _asks(
    surface: _Surface, found: Located, clearance: float, chosen: Bool, scale: F64 | None = None
) -> tuple[csr_array, F64]:
    """Rows b and what b · o must at least be, for the highest chosen point of every cell of every face."""
    t, b = found.triangle[chosen].astype(np.int64), np.clip(found.b[chosen].astype(np.float64), 0, 1)
    wanted = found.reach[chosen] * (1.0 if scale is None else scale[chosen]) + clearance
    cell = np.minimum((b[:, 1:] * CELLS).astype(np.int64), CELLS - 1)
    key = (t * CELLS + cell[:, 0]) * CELLS + cell[:, 1]
    order = np.lexsort((-wanted, key))
    highest = order[np.unique(key[order], return_index=True)[1]]
    b, t, wanted = b[highest] / b[highest].sum(axis=1, keepdims=True), t[highest], wanted[highest]
    n = len(t)
    rows = csr_array(
        (b.reshape(-1), (np.repeat(np.arange(n), 3), surface.ids[t].reshape(-1))), shape=(n, len(surface.area))
    )
    return rows, np.minimum(wanted, rows @ np.where(np.isfinite(surface.limit), surface.limit, 1e9))


def _solve(surface: _Surface, object_of: I64, rows: csr_array, asked: F64, clearance: float) -> F64:
    """The least offsets, object by object."""
    offsets = np.full(len(surface.area), clearance)
    of_row = object_of[rows.indices[rows.indptr[:-1]]] if rows.shape[0] else np.zeros(0, np.int64)
    of_link = object_of[surface.links[:, 0]]
    for n in np.unique(object_of):
        own = np.flatnonzero(object_of == n)
        place = np.full(len(object_of), -1)
        place[own] = np.arange(len(own))
        mine = rows[np.flatnonzero(of_row == n)][:, own]
        links = place[surface.links[of_link == n]]
        steps = SLOPE * surface.lengths[of_link == n]
        k = len(links)
        tie = csr_array((np.tile([1.0, -1.0], k), (np.repeat(np.arange(k), 2), links.reshape(-1))), shape=(k, len(own)))
        limit = np.maximum(surface.limit[own], 0)
        least = np.minimum(clearance, limit)
        weight = surface.area[own] / max(float(surface.area[own].mean()), 1e-300) + 1e-3
        found = linprog(
            weight, vstack([-mine, tie, -tie]), np.concatenate([-asked[of_row == n], steps, steps]),
            bounds=np.stack([least, limit], axis=1), method="highs",
        )  # fmt: skip
        offsets[own] = (
            found.x if found.x is not None else np.minimum(np.max(asked[of_row == n], initial=clearance), limit)
        )
    return offsets
