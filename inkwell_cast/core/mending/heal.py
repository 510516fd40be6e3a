"""Healing: a place of the low filled in from its rim, evenly over the surface."""

from dataclasses import replace

import numpy as np

from ..base.array_types import F64, I64, AnyArray, Bool
from ..base.kernels import kernel
from ..base.on_demand import on_demand
from ..base.records import Record
from ..cast.context import Context
from ..cast.texel import place_at, triangle_at
from ..settings.regions import Heal
from .patch_on_sheet import patch_on, share_of_radius

coo_array = on_demand("scipy.sparse", "coo_array")
diags_array = on_demand("scipy.sparse", "diags_array")
cg = on_demand("scipy.sparse.linalg", "cg")
cKDTree = on_demand("scipy.spatial", "cKDTree")

RING = 1.25  # of a healed patch's radius: how far around it values are taken from
NEIGHBOURS = 8
CLOSE = 1e-6  # of the right side: how exactly the fill is solved
ALIKE = 0.2  # cosine between faces from which on texels that lie together are of one side


def healed(context: Context, layers: dict[str, AnyArray], heal: Heal) -> tuple[Context, dict[str, AnyArray]]:
    """The patch filled in: every texel the mean of those around it on the surface, from its rim inward."""
    cast = context.cast
    spread, tiles = patch_on(context, heal.centre, heal.radius * RING)
    share = np.full(cast.covered.shape, np.inf, np.float32)
    share_of_radius(context, spread, tiles, heal.radius, share)
    y, x = np.nonzero((cast.covered > 0) & (share <= RING))
    inside = share[y, x] <= 1
    usable = inside | (cast.struck[y, x] > 0)
    y, x, inside = y[usable], x[usable], inside[usable]
    if not inside.any() or inside.all():
        return context, layers
    place = _places(context, y, x)
    links = _links(context, y, x, place)

    def filled(values: AnyArray) -> AnyArray:
        out = values.copy()
        known = values[y, x].reshape(len(y), -1)
        if values.dtype.kind in "iu":  # names do not blend: the nearest at the rim
            nearest = cKDTree(place[~inside]).query(place[inside])[1]
            out[y[inside], x[inside]] = values[y[~inside], x[~inside]][nearest]
        else:
            solved = _harmonic(links, inside, known.astype(np.float64))
            out[y[inside], x[inside]] = solved.reshape(values[y[inside], x[inside]].shape)
        return out

    normal = filled(cast.normal)
    long = np.linalg.norm(normal[y, x], axis=1, keepdims=True)
    normal[y, x] = np.where(inside[:, None], normal[y, x] / np.maximum(long, 1e-12), normal[y, x])
    struck, healed = cast.struck.copy(), np.zeros(cast.covered.shape, np.bool_)
    struck[y[inside], x[inside]] = cast.covered[y[inside], x[inside]]
    healed[y[inside], x[inside]] = True
    if context.healed is not None:
        healed |= context.healed
    filled_cast = replace(
        cast, normal=normal, struck=struck, height=filled(cast.height), hit_triangle=filled(cast.hit_triangle)
    )
    return replace(context, cast=filled_cast, healed=healed), {key: filled(values) for key, values in layers.items()}


def _harmonic(links: AnyArray, inside: Bool, known: F64) -> F64:
    """Values (N, C) inside that are the weighted mean of their neighbours', for those outside as they are."""
    free, rim = np.flatnonzero(inside), np.flatnonzero(~inside)
    degree = np.asarray(links.sum(axis=1)).reshape(-1)[free]
    system = (diags_array(np.maximum(degree, 1e-30)) - links[free][:, free]).tocsr()
    right = links[free][:, rim] @ known[rim]
    jacobi, out = diags_array(1 / system.diagonal()), np.empty((len(free), known.shape[1]))
    for c in range(known.shape[1]):
        out[:, c] = cg(system, right[:, c], rtol=CLOSE, maxiter=4000, M=jacobi)[0]
    return out


def _links(context: Context, y: I64, x: I64, place: F64) -> AnyArray:
    """Neighbours on the surface, also across UV seams, the closer the more; (N, N) symmetric."""
    distance, near = cKDTree(place).query(place, min(NEIGHBOURS + 1, len(place)), workers=-1)
    rows = np.repeat(np.arange(len(place)), near.shape[1])
    columns, away = near.reshape(-1), distance.reshape(-1)
    corners = context.rays.points[context.cast.low_triangle[y, x]].astype(np.float64)
    facing = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    facing /= np.maximum(np.linalg.norm(facing, axis=1, keepdims=True), 1e-300)
    one_side = np.einsum("nc,nc->n", facing[rows], facing[columns]) > ALIKE
    kept = (rows != columns) & one_side
    typical = max(float(np.median(away[kept])) if kept.any() else 1.0, 1e-30)
    weight = 1 / (np.maximum(away[kept], 0.1 * typical) / typical) ** 2
    half = coo_array((weight, (rows[kept], columns[kept])), shape=(len(place), len(place))).tocsr()
    return half.maximum(half.T).tocsr()


def _places(context: Context, y: I64, x: I64) -> F64:
    """Where texels lie on the low, (N, 3)."""
    out = np.empty((len(y), 3))
    _place_all(y, x, context.low.record, context.cast.record, context.rays.record, out)
    return out


@kernel
def _place_all(y: I64, x: I64, low: Record, cast: Record, rays: Record, out: F64) -> None:
    for i in range(len(y)):
        out[i, 0], out[i, 1], out[i, 2] = place_at(x[i], y[i], triangle_at(x[i], y[i], cast), low, cast, rays)
