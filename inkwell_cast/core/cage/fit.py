"""The fitted cage: the even reach, longer where the sculpt stands out, shorter where rays start behind something else.

A linear program over the offsets o of the low's vertices; what is least is how far they are from the even reach,
weighed with the surface around each vertex. A point of the sculpt at barycentrics b and height s along the ray field
asks b · o >= s + clearance, so what the even cage holds stays held; what lies farther than FAR times the reach, or
FARTHEST of the diagonal, is an outlier that asks for nothing. Neighbours may differ by at most SLOPE times the length
of their edge; no offset may reach where a face of the cage would fold. Rays should not start behind another surface
of their pair: outward from a point the first such surface, at height g, wants b · o <= g less some room. That is an
elastic row: going over it costs BEHIND times as much as the same length of cage, so it gives way only where the
sculpt could not be held otherwise. Offsets of different lengths turn the rays a little, so the sculpt is located
again on the rays of the cage found, and points that it does not hold are asked for with what they lack, until none is
left.

Solved by HiGHS (Q. Huangfu and J. Hall, "Parallelizing the dual revised simplex method", 2018) through SciPy, object
by object.
"""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from hashlib import sha256
from typing import Any

import numpy as np

from ..base.array_types import F32, F64, I32, I64, U64, Bool
from ..base.kernels import kernel
from ..base.on_demand import on_demand
from ..base.progress import ShareDone
from ..base.threads import awaited, in_batches
from ..mesh.adjacency import edges_of
from ..mesh.mesh import corner_positions
from ..piece.piece import Assembly
from ..piece.scene_cache import Slot, Warm
from ..piece.sculpt import Sculpt
from ..rays.embree import hit_along
from .cage import Cage, build_cage, reaches
from .inverse_rays import Located, locate, located_of
from .ray_directions import directions_of

linprog = on_demand("scipy.optimize", "linprog")
coo_array = on_demand("scipy.sparse", "coo_array")
csr_array = on_demand("scipy.sparse", "csr_array")
eye_array = on_demand("scipy.sparse", "eye_array")
hstack = on_demand("scipy.sparse", "hstack")
vstack = on_demand("scipy.sparse", "vstack")
dijkstra = on_demand("scipy.sparse.csgraph", "dijkstra")

SLOPE = 1.0
CELLS = 4  # a face is cut into CELLS x CELLS cells; only the highest point of each is asked for at first
ROUNDS = 3
FOLD_SHARE = 0.9  # of the way to where a face would fold
FAR, FARTHEST = 2.5, 0.03
LEAST = 1e-5  # of the diagonal: a cage never lies on the sculpt
BEHIND = 20.0
LIFT = 1e-5  # of the diagonal: where the way out from a point of the sculpt begins
MOST_SECONDS = 120.0  # of one object; what is given up goes on in its thread no longer than this
FINE = 1e-4  # of the clearance: what may be lacking in the end
FITTED = Slot[F32]()


@dataclass(frozen=True, slots=True)
class _Surface:
    """The low's vertices: ids (T, 3) int32 from 0, links (L, 2), their lengths; area around, limit and even reach."""

    ids: I32
    links: I64
    lengths: F64
    area: F64
    limit: F64
    even: F64


@dataclass(frozen=True, slots=True)
class _Rows:
    """What points ask for: b (N, vertices) with b · o >= asked (N,), and b · o <= most (N,) where that can be had."""

    b: Any
    asked: F64
    most: F64

    def and_also(self, more: "_Rows") -> "_Rows":
        return _Rows(
            vstack([self.b, more.b]).tocsr(),
            np.concatenate([self.asked, more.asked]),
            np.concatenate([self.most, more.most]),
        )


def cage_of(assembly: Assembly, warm: Warm, tell: ShareDone = lambda share: None) -> Cage:
    """The cage in force: even, or fitted to the sculpt (computed once for the same meshes and clearance).

    A fit calls `tell(share)` between its parts, which may raise Cancelled.
    """
    reach = assembly.recipe.reach
    if reach.shape == "even" or not assembly.paired.pairs:
        return build_cage(assembly)
    sculpt, located = warm.sculpt(assembly), located_of(assembly, warm)
    clearance = max(reach.clearance * reach.margin_scale(assembly.low.diagonal), LEAST * assembly.low.diagonal)
    even = reaches(assembly)[0]
    key = f"{assembly.digest()} {sculpt.serial} {clearance} {sha256(even.tobytes()).hexdigest()}"

    def heard(share: float) -> None:
        warm.look()
        tell(share)

    lengths = warm.once(FITTED, key, lambda: fit_offsets(assembly, sculpt, located, even, clearance, heard))
    return build_cage(assembly, lengths)


def fit_offsets(
    assembly: Assembly, sculpt: Sculpt, located: Located, even: F32, clearance: float, tell: ShareDone
) -> F32:
    """Lengths of the cage's offsets at the low's corners, (T, 3) float32, from the `even` ones of its triangles (T,).

    They and `clearance` are in scene units.

    `tell(share)` is called at least every 100 ms and may raise Cancelled.
    """
    directions = directions_of(assembly)
    surface = _surface(assembly, directions.astype(np.float64), even)
    object_of = np.zeros(len(surface.area), np.int64)
    object_of[surface.ids] = assembly.low.objects[:, None]
    farthest = np.maximum(FAR * even, FARTHEST * assembly.low.diagonal)
    sought = located.reach <= farthest[located.triangle]
    rows = _asks(assembly, sculpt, directions, surface, located, clearance, sought)
    offsets = _solve(surface, object_of, rows, clearance, lambda share: tell(share / 2))
    for n in range(ROUNDS):
        share = (ROUNDS + n) / (2 * ROUNDS)
        along = directions * offsets[surface.ids][..., None].astype(np.float32)
        points = locate(assembly, sculpt, along, partial(_heard, tell, share))
        length = np.einsum("nk,nk->n", points.b, offsets[surface.ids[points.triangle]])
        lacking = points.reach * length > length - clearance * (1 - FINE)
        lacking &= points.reach * length <= farthest[points.triangle]
        lacking &= length < np.einsum("nk,nk->n", points.b, surface.limit[surface.ids[points.triangle]]) * (1 - FINE)
        if not lacking.any():
            break
        rows = rows.and_also(_asks(assembly, sculpt, directions, surface, points, clearance, lacking, length))
        offsets = _solve(surface, object_of, rows, clearance, partial(_tell_part, tell, share))
    return np.asarray(offsets[surface.ids], np.float32)


def _heard(tell: ShareDone, share: float) -> bool:
    """Tell the share; it raises Cancelled where the fit is no longer wanted."""
    tell(share)
    return False


def _tell_part(tell: ShareDone, share: float, part: float) -> None:
    tell(share + part / (2 * ROUNDS))


def _surface(assembly: Assembly, directions: F64, even: F32) -> _Surface:
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
    links, lengths, reach = links[keep], lengths[keep], np.zeros(count)
    np.maximum.at(reach, ids, even[:, None].astype(np.float64))
    return _Surface(ids, links, lengths, area, _smoothest(limit, links, lengths), reach)


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
    assembly: Assembly,
    sculpt: Sculpt,
    directions: F32,
    surface: _Surface,
    located: Located,
    clearance: float,
    chosen: Bool,
    scale: F64 | None = None,
) -> _Rows:
    """What the chosen points of every cell of every face ask for that lack most, and that have least room outward.

    `scale` is how far out the cage stands where `located` speaks in its lengths; None where those are scene units.
    """
    t, b = located.triangle[chosen].astype(np.int64), np.clip(located.b[chosen].astype(np.float64), 0, 1)
    held = 0.0 if scale is None else scale[chosen]
    reach, place = located.reach[chosen] * (1.0 if scale is None else held), located.place[chosen]
    cell = np.minimum((b[:, 1:] * CELLS).astype(np.int64), CELLS - 1)
    key = (t * CELLS + cell[:, 0]) * CELLS + cell[:, 1]
    along = np.einsum("nk,nkc->nc", b, directions[t].astype(np.float64))
    length = np.maximum(np.linalg.norm(along, axis=1), 1e-12)
    room = _room(sculpt, assembly.low_pair[t], place, along / length[:, None], LIFT * assembly.low.diagonal)
    most = reach + (room - np.minimum(clearance, room / 2)) / length
    orders = np.lexsort((held - reach, key)), np.lexsort((most, key))
    first = [order[np.unique(key[order], return_index=True)[1]] for order in orders]
    chief = np.unique(np.concatenate(first))
    b, t, reach, most = b[chief] / b[chief].sum(axis=1, keepdims=True), t[chief], reach[chief], most[chief]
    n = len(t)
    rows = csr_array(
        (b.reshape(-1), (np.repeat(np.arange(n), 3), surface.ids[t].reshape(-1))), shape=(n, len(surface.area))
    )
    limit = rows @ np.where(np.isfinite(surface.limit), surface.limit, 1e9)
    return _Rows(rows, np.minimum(reach + clearance, limit), most)


def _room(sculpt: Sculpt, pair: I32, place: F32, along: F64, lift: float) -> F64:
    """How far out along unit directions (N, 3) the next surface lies that faces the place; infinite for none."""
    room = np.full(len(place), np.inf)

    def work(i: int, j: int) -> None:
        _outward(pair[i:j], place[i:j], along[i:j], lift, sculpt.tracers, room[i:j])

    in_batches(len(place), work)
    return room


@kernel
def _outward(pair: I32, place: F32, along: F64, lift: float, tracers: U64, room: F64) -> None:
    for i in range(len(pair)):
        dx, dy, dz = along[i, 0], along[i, 1], along[i, 2]
        x, y, z = place[i, 0] + lift * dx, place[i, 1] + lift * dy, place[i, 2] + lift * dz
        tracer = tracers[pair[i]]
        length, _, _, hit = hit_along(tracer[0], tracer[1], x, y, z, dx, dy, dz, 1e30)
        if hit >= 0:
            room[i] = length + lift


def _solve(surface: _Surface, object_of: I64, rows: _Rows, clearance: float, tell: ShareDone) -> F64:
    """The least offsets, object by object."""
    offsets = np.full(len(surface.area), clearance)
    of_row = object_of[rows.b.indices[rows.b.indptr[:-1]]] if rows.b.shape[0] else np.zeros(0, np.int64)
    of_link = object_of[surface.links[:, 0]]
    objects = np.unique(object_of)
    for done, n in enumerate(objects):
        tell(done / len(objects))
        members = np.flatnonzero(object_of == n)
        place = np.full(len(object_of), -1)
        place[members] = np.arange(len(members))
        mine = np.flatnonzero(of_row == n)
        offsets[members] = _least(
            surface.area[members],
            np.maximum(surface.limit[members], 0),
            surface.even[members],
            rows.b[mine][:, members],
            rows.asked[mine],
            rows.most[mine],
            place[surface.links[of_link == n]],
            SLOPE * surface.lengths[of_link == n],
            clearance,
            partial(tell, done / len(objects)),
        )
    return offsets


def _least(
    area: F64,
    limit: F64,
    even: F64,
    b: Any,
    asked: F64,
    most: F64,
    links: I64,
    steps: F64,
    clearance: float,
    look: Callable[[], None],
) -> F64:
    """The offsets of one object nearest to the even ones: the program of the module's docstring.

    Its variables are what each is longer by, what each is shorter by, and what elastic rows are gone over by.
    """
    count, k = len(area), len(links)
    capped = np.flatnonzero(most < 2 * max(float(even.max(initial=0)), float(np.max(asked, initial=clearance))))
    tie = csr_array((np.tile([1.0, -1.0], k), (np.repeat(np.arange(k), 2), links.reshape(-1))), shape=(k, count))
    asks: Any = vstack([-b, tie, -tie, b[capped]])
    over = csr_array((asks.shape[0], len(capped)))
    if len(capped):
        over = vstack([csr_array((asks.shape[0] - len(capped), len(capped))), -eye_array(len(capped))])
    weight = area / max(float(area.mean()), 1e-300) + 1e-3
    sides = np.concatenate([-asked, steps, steps, most[capped]]) - asks @ even
    shorter = np.maximum(even - np.minimum(clearance, limit), 0), np.maximum(even - limit, 0)
    lowest = np.concatenate([np.zeros(count), shorter[1], np.zeros(len(capped))])
    highest = np.concatenate([np.maximum(limit - even, 0), np.maximum(*shorter), np.full(len(capped), np.inf)])
    costs, bounds = np.concatenate([weight, weight, np.full(len(capped), BEHIND)]), np.stack([lowest, highest], axis=1)
    rows = hstack([asks, -asks, over]).tocsr()
    solved = awaited(
        lambda: linprog(costs, rows, sides, bounds=bounds, method="highs", options={"time_limit": MOST_SECONDS}), look
    )
    if solved.x is None:
        return np.minimum(np.maximum(even, float(np.max(asked, initial=clearance))), limit)
    return np.asarray(even + solved.x[:count] - solved.x[count : 2 * count])
