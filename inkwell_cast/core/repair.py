"""Repairs after the cast: places taken from a bake with other settings, and places filled in from their rim.

Both work on what the cast found, in object space and before any map is made, so all maps agree; the cast itself stays
as it was, and so do the bytes of everything outside the place.
"""

from collections.abc import Callable
from dataclasses import fields, replace
from typing import Any

import numba
import numpy as np
from scipy.sparse import coo_array, diags_array
from scipy.sparse.linalg import cg
from scipy.spatial import cKDTree

from .again import cast_tiles, finished, gather_tiles, tiles_of
from .arrays import F32, F64, I64, Any_, Bool
from .cage import build_cage, rays_of
from .cast import Cast
from .fit import cage_of
from .ground import Ground
from .local_settings import Heal, Patch
from .sheet import TILE, texel_barycentrics
from .special import fade

RING = 1.25  # of a healed ball's radius: how far around it values are taken from
NEIGHBOURS = 8
CLOSE = 1e-6  # of the right side: how exactly the fill is solved
ALIKE = 0.2  # cosine between faces from which on texels that lie together are of one side


def repaired(
    ground: Ground, raws: dict[str, Any_], rough: dict[str, Any_], cancelled: Callable[[], bool]
) -> tuple[Ground, dict[str, Any_]]:  # fmt: skip
    """The ground and layers of a sheet with the recipe's patches, then its heals.

    `raws` are finished layers, `rough` the same before: patches are blended into those, and the whole is finished
    again. Raises Cancelled.
    """
    recipe = ground.recipe
    patched = ground
    for patch in recipe.patches:
        patched, rough = _patched(patched, rough, patch, cancelled)
    if patched is not ground:
        raws = {}
        for key, values in rough.items():
            smooth = finished(patched, key, values, lambda share: None, cancelled)
            raws[key] = values if smooth is None else smooth
    for heal in recipe.heals:
        patched, raws = _healed(patched, raws, heal)
    return patched, raws


def _patched(
    ground: Ground, rough: dict[str, Any_], patch: Patch, cancelled: Callable[[], bool]
) -> tuple[Ground, dict[str, Any_]]:  # fmt: skip
    """What rays with the patch's settings find inside its ball, blended in over its rim."""
    grid, cast = ground.low.grid, ground.cast
    tiles = _tiles_in(ground, patch.centre, patch.radius)
    if not len(tiles):
        return ground, rough
    there = _with_settings(ground, patch)
    other, fresh = cast_tiles(there, cast, tiles, lambda share: None, cancelled)
    there = replace(there, cast=other)
    weight = np.zeros(cast.covered.shape, np.float32)
    _weigh(  # type: ignore[call-arg]
        tiles, grid.tiles_across, *_ball(ground, patch.centre, patch.radius), patch.rim, weight
    )
    weight[other.struck == 0] = 0
    weight[(cast.struck == 0) & (weight > 0)] = 1
    names = [f.name for f in fields(Cast) if f.name not in ("shared", "samples")]
    made: dict[str, Any] = {name: _blended(getattr(cast, name), getattr(other, name), weight) for name in names}
    mixed = {}
    for key, values in rough.items():
        out = gather_tiles(there, key, values, tiles, fresh, lambda share: None, cancelled)
        mixed[key] = _blended(values, out, weight)
    return replace(ground, cast=replace(cast, **made)), mixed


def _with_settings(ground: Ground, patch: Patch) -> Ground:
    """The ground with the rays that a patch asks for.

    A fitted cage stays as it is fitted, with the patch's directions, unless the patch says how far out rays start.
    """
    given = {name: value for name in ("directions", "outward", "inward") if (value := getattr(patch, name)) is not None}
    recipe, base = ground.recipe, ground.assembly
    cleared = {name: level.model_copy(update=dict.fromkeys(given)) for name, level in recipe.levels.items()}
    own = recipe.model_copy(update={"reach": recipe.reach.model_copy(update=given), "levels": cleared})
    assembly, lengths = replace(base, recipe=own), None
    if recipe.reach.shape == "fitted" and patch.outward is None:
        lengths = np.linalg.norm(cage_of(base, ground.warm).offsets, axis=2).astype(np.float32)
    rays = rays_of(assembly, build_cage(assembly, lengths), ground.low.triangles)
    return replace(ground, assembly=assembly, rays=rays)


def _healed(ground: Ground, raws: dict[str, Any_], heal: Heal) -> tuple[Ground, dict[str, Any_]]:
    """The ball filled in: every texel the mean of those around it on the surface, from its rim inward."""
    cast, grid = ground.cast, ground.low.grid
    tiles = _tiles_in(ground, heal.centre, heal.radius * RING)
    share = np.full(cast.covered.shape, np.inf, np.float32)
    _measure(tiles, grid.tiles_across, *_ball(ground, heal.centre, heal.radius), share)  # type: ignore[call-arg]
    y, x = np.nonzero((cast.covered > 0) & (share <= RING))
    inside = share[y, x] <= 1
    usable = inside | (cast.struck[y, x] > 0)
    y, x, inside = y[usable], x[usable], inside[usable]
    if not inside.any() or inside.all():
        return ground, raws
    place = _places(ground, y, x)
    links = _links(ground, y, x, place)

    def filled(values: Any_) -> Any_:
        out = values.copy()
        known = values[y, x].reshape(len(y), -1)
        if values.dtype.kind in "iu":  # names do not blend: the nearest at the rim
            nearest = cKDTree(place[~inside]).query(place[inside])[1]
            out[y[inside], x[inside]] = values[y[~inside], x[~inside]][nearest]
        else:
            found = _harmonic(links, inside, known.astype(np.float64))
            out[y[inside], x[inside]] = found.reshape(values[y[inside], x[inside]].shape)
        return out

    normal = filled(cast.normal)
    long = np.linalg.norm(normal[y, x], axis=1, keepdims=True)
    normal[y, x] = np.where(inside[:, None], normal[y, x] / np.maximum(long, 1e-12), normal[y, x])
    struck, healed = cast.struck.copy(), np.zeros(cast.covered.shape, np.bool_)
    struck[y[inside], x[inside]] = cast.covered[y[inside], x[inside]]
    healed[y[inside], x[inside]] = True
    if ground.healed is not None:
        healed |= ground.healed
    made = replace(
        cast, normal=normal, struck=struck, height=filled(cast.height), hit_triangle=filled(cast.hit_triangle)
    )  # fmt: skip
    return replace(ground, cast=made, healed=healed), {key: filled(values) for key, values in raws.items()}


def _harmonic(links: Any_, inside: Bool, known: F64) -> F64:
    """Values (N, C) inside that are the weighted mean of their neighbours', for those outside as they are."""
    free, rim = np.flatnonzero(inside), np.flatnonzero(~inside)
    degree = np.asarray(links.sum(axis=1)).reshape(-1)[free]
    system = (diags_array(np.maximum(degree, 1e-30)) - links[free][:, free]).tocsr()
    right = links[free][:, rim] @ known[rim]
    jacobi, out = diags_array(1 / system.diagonal()), np.empty((len(free), known.shape[1]))
    for c in range(known.shape[1]):
        out[:, c] = cg(system, right[:, c], rtol=CLOSE, maxiter=4000, M=jacobi)[0]
    return out


def _links(ground: Ground, y: I64, x: I64, place: F64) -> Any_:
    """Neighbours on the surface, also across UV seams, the closer the more; (N, N) symmetric."""
    distance, near = cKDTree(place).query(place, min(NEIGHBOURS + 1, len(place)), workers=-1)
    rows = np.repeat(np.arange(len(place)), near.shape[1])
    columns, away = near.reshape(-1), distance.reshape(-1)
    corners = ground.rays.points[ground.cast.low_triangle[y, x]].astype(np.float64)
    facing = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    facing /= np.maximum(np.linalg.norm(facing, axis=1, keepdims=True), 1e-300)
    one_side = np.einsum("nc,nc->n", facing[rows], facing[columns]) > ALIKE
    kept = (rows != columns) & one_side
    typical = max(float(np.median(away[kept])) if kept.any() else 1.0, 1e-30)
    weight = 1 / (np.maximum(away[kept], 0.1 * typical) / typical) ** 2
    half = coo_array((weight, (rows[kept], columns[kept])), shape=(len(place), len(place))).tocsr()
    return half.maximum(half.T).tocsr()


def _blended(one: Any_, other: Any_, weight: F32) -> Any_:
    if one.dtype.kind in "iu":
        own = weight >= 0.5
        return np.where(own.reshape(own.shape + (1,) * (one.ndim - 2)), other, one)
    w = weight.reshape(weight.shape + (1,) * (one.ndim - 2))
    return np.asarray(np.where(w > 0, (1 - w) * one + w * other, one), one.dtype)


def _tiles_in(ground: Ground, centre: tuple[float, float, float], radius: float) -> I64:
    points = ground.rays.points.astype(np.float64)
    middle = points.mean(axis=1)
    size = np.linalg.norm(points - middle[:, None], axis=2).max(axis=1, initial=0)
    near: Bool = np.linalg.norm(middle - np.array(centre), axis=1) <= size * 1.001 + radius
    return tiles_of(ground.low.grid, near)


def _ball(ground: Ground, centre: tuple[float, float, float], radius: float) -> tuple[Any, ...]:
    """What the kernels below want to know of texels and of a ball."""
    cast, grid = ground.cast, ground.low.grid
    return (
        cast.low_triangle, cast.sample, grid.corners, grid.side, grid.shift, ground.rays.points,
        np.array(centre), radius,
    )  # fmt: skip


def _places(ground: Ground, y: I64, x: I64) -> F64:
    """Where texels lie on the low, (N, 3)."""
    cast, grid, out = ground.cast, ground.low.grid, np.empty((len(y), 3))
    _place_all(y, x, cast.low_triangle, cast.sample, grid.corners, grid.side, grid.shift, ground.rays.points, out)
    return out


@numba.njit(cache=True, nogil=True)
def _place_of(y, x, t, sample, corners, side, shift, points):  # type: ignore[no-untyped-def]
    b0, b1, b2 = texel_barycentrics(corners, t, x, y, sample, side, shift)
    p = points[t]
    return (
        b0 * p[0, 0] + b1 * p[1, 0] + b2 * p[2, 0],
        b0 * p[0, 1] + b1 * p[1, 1] + b2 * p[2, 1],
        b0 * p[0, 2] + b1 * p[1, 2] + b2 * p[2, 2],
    )


@numba.njit(cache=True, nogil=True)
def _place_all(y, x, low_triangle, sample, corners, side, shift, points, out):  # type: ignore[no-untyped-def]
    for i in range(len(y)):
        t = low_triangle[y[i], x[i]]
        out[i, 0], out[i, 1], out[i, 2] = _place_of(y[i], x[i], t, sample[y[i], x[i]], corners, side, shift, points)


@numba.njit(cache=True, nogil=True)
def _measure(tiles, across, low_triangle, sample, corners, side, shift, points, centre, radius, share):  # type: ignore[no-untyped-def]
    """How far from the middle of a ball each texel of some tiles lies, in radii."""
    height, width = low_triangle.shape
    for tile in tiles:
        for y in range(tile // across * TILE, min((tile // across + 1) * TILE, height)):
            for x in range(tile % across * TILE, min((tile % across + 1) * TILE, width)):
                t = low_triangle[y, x]
                if t >= 0:
                    px, py, pz = _place_of(y, x, t, sample[y, x], corners, side, shift, points)
                    away = (px - centre[0]) ** 2 + (py - centre[1]) ** 2 + (pz - centre[2]) ** 2
                    share[y, x] = np.sqrt(away) / radius


@numba.njit(cache=True, nogil=True)
def _weigh(tiles, across, low_triangle, sample, corners, side, shift, points, centre, radius, rim, weight):  # type: ignore[no-untyped-def]
    """How much of a ball each texel of some tiles takes: all inside, nothing beyond its rim."""
    _measure(tiles, across, low_triangle, sample, corners, side, shift, points, centre, radius, weight)
    height, width = low_triangle.shape
    for tile in tiles:
        for y in range(tile // across * TILE, min((tile // across + 1) * TILE, height)):
            for x in range(tile % across * TILE, min((tile % across + 1) * TILE, width)):
                weight[y, x] = fade(weight[y, x], rim) if low_triangle[y, x] >= 0 else 0.0
