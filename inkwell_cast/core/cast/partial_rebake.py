"""What of an earlier bake still holds when only the rays of some places changed, so that only their tiles bake again.

A pocket, a stroke, an omission or a reach changes the rays of the triangles that it touches. The tiles of the sheet on
which those lie are cast anew; all else is taken over, and comes out the same bit for bit, since a texel depends on
nothing but its own rays.

Tiles are cast again here for a bake after a change, and for a patch that has other settings.
"""

from dataclasses import fields
from itertools import pairwise

import numpy as np

from ..base.array_types import I64, AnyArray, Bool
from ..base.progress import Cancel, ShareDone
from ..cage.cage import Cage
from ..mesh.mesh import Mesh
from ..piece.low_on_sheet import Low
from ..rays.modifiers.modifiers import LaidPatches, Modifiers
from ..rays.modifiers.straighten import Straight
from ..uv.rasterise import TILE, Grid
from .context import Context
from .hits import Cast, Hits, empty_hits
from .kernel import cast_rays


def same_low(one: Low, other: Low) -> bool:
    """Whether two lows lie on their sheets alike, with the same shape and normals."""
    if one is other:
        return True
    grids = all(_same(getattr(one.grid, f.name), getattr(other.grid, f.name)) for f in fields(Grid))
    arrays = (one.triangles, one.normals, one.tangents), (other.triangles, other.normals, other.tangents)
    return grids and all(_same(a, b) for a, b in zip(*arrays, strict=True)) and _same_mesh(one.mesh, other.mesh)


def _same_mesh(one: Mesh, other: Mesh) -> bool:
    return len(one.uvs) == len(other.uvs) and all(map(_same, _arrays_of(one), _arrays_of(other)))


def _arrays_of(mesh: Mesh) -> list[AnyArray]:
    layers = [layer for layer in (mesh.normals, *mesh.uvs) if layer]
    layered = [array for layer in layers for array in (layer.values, layer.corners)]
    return [mesh.positions, mesh.triangles, mesh.objects, *layered]


def _same(one: object, other: object) -> bool:
    if isinstance(one, np.ndarray) and isinstance(other, np.ndarray):
        return one is other or np.array_equal(one, other)
    return one == other


def changed_rays(before: Cage, after: Cage) -> Bool:
    """Triangles of a low whose rays two cages lead otherwise, (T,) bool; some more where that is not told."""
    changed = (before.offsets != after.offsets).any(axis=(1, 2)) | (before.inward != after.inward)
    old, new = before.modifiers, after.modifiers
    if not all(
        _same(getattr(old.foreign_cage, f.name), getattr(new.foreign_cage, f.name))
        for f in fields(type(old.foreign_cage))
    ):
        return np.ones(len(changed), np.bool_)
    changed |= _moved(old.pockets, new.pockets) | _moved(old.omissions, new.omissions)
    return changed | _restroked(old, new) | _straightened(old.straight, new.straight)


def _moved(old: LaidPatches, new: LaidPatches) -> Bool:
    """Triangles of patches that only one of two lists has; of all where their order differs: later ones count more."""
    named = [[row.tobytes() for row in patches.numbers] for patches in (old, new)]
    both = set(named[0]) & set(named[1])
    kept = [[name for name in names if name in both] for names in named]
    odd = [np.array([name not in both or kept[0] != kept[1] for name in names], np.bool_) for names in named]
    return old.touched_by(odd[0]) | new.touched_by(odd[1])


def _restroked(old: Modifiers, new: Modifiers) -> Bool:
    """Triangles with other strokes on them: any stroke that came, went, moved or follows another one than before."""
    touched, names = [], []
    for nudges in (old.nudges, new.nudges):
        ends = np.searchsorted(nudges.owner, np.arange(len(nudges.strokes) + 1))
        pieces = [nudges.segments[first:last] for first, last in pairwise(ends.tolist())]
        names.append([s.tobytes() + p.tobytes() for s, p in zip(nudges.strokes, pieces, strict=True)])
    both = set(names[0]) & set(names[1])
    ordered = [[name for name in called if name in both] for called in names]
    for nudges, called in zip((old.nudges, new.nudges), names, strict=True):
        odd = np.array([name not in both or ordered[0] != ordered[1] for name in called], np.bool_)
        hits = odd[nudges.owner][nudges.listed] if len(nudges.strokes) else np.zeros(len(nudges.listed), np.bool_)
        sums = np.concatenate([[0], np.cumsum(hits)])
        touched.append(sums[nudges.starts[1:]] > sums[nudges.starts[:-1]])
    return np.asarray(touched[0] | touched[1])


def _straightened(one: Straight, other: Straight) -> Bool:
    if all(_same(getattr(one, f.name), getattr(other, f.name)) for f in fields(Straight)):
        return np.zeros(len(one.flat), np.bool_)
    if not (_same(one.picture, other.picture) and _same(one.uvs, other.uvs)):
        return np.ones(len(one.flat), np.bool_)
    return np.asarray(one.flat | other.flat)


def tiles_of(grid: Grid, triangles: Bool) -> I64:
    """The tiles of a sheet that any of the marked triangles (P,) may touch."""
    sums = np.concatenate([[0], np.cumsum(triangles[grid.listed])])
    return np.flatnonzero(sums[grid.starts[1:]] > sums[grid.starts[:-1]])


def without_tiles(values: AnyArray, grid: Grid, tiles: I64, empty: float) -> AnyArray:
    """A copy of a layer (H, W, ...) with some tiles as they are before a cast."""
    out = values.copy()
    for tile in tiles.tolist():
        x, y = tile % grid.tiles_across * TILE, tile // grid.tiles_across * TILE
        out[y : y + TILE, x : x + TILE] = empty
    return out


def cast_without(cast: Cast, grid: Grid, tiles: I64) -> Cast:
    """A copy of a cast in which some tiles are empty."""
    none = {"low_triangle": -1, "hit_triangle": -1}
    copies = {
        f.name: without_tiles(getattr(cast, f.name), grid, tiles, none.get(f.name, 0))
        for f in fields(Cast)
        if f.name not in ("shared", "samples")
    }
    return Cast(**copies, shared=cast.shared.copy(), samples=cast.samples)


def with_hits(hits: Hits, fresh: Hits) -> Hits:
    """A copy of the hits of a sheet with those of some of its tiles in the place of its own."""
    triangle, uv = hits.triangle.copy(), hits.uv.copy()
    row = {tile: n for n, tile in enumerate(hits.tiles.tolist())}
    for n, tile in enumerate(fresh.tiles.tolist()):
        first, given = hits.starts[row[tile]], slice(fresh.starts[n], fresh.starts[n + 1])
        to = slice(first, first + fresh.starts[n + 1] - fresh.starts[n])
        triangle[to], uv[to] = fresh.triangle[given], fresh.uv[given]
    return Hits(hits.tiles, hits.starts, triangle, uv)


def cast_tiles(context: Context, before: Cast, tiles: I64, tell: ShareDone, cancelled: Cancel) -> tuple[Cast, Hits]:
    """A cast in which some tiles are traced anew by the rays of a context, and what their samples struck."""
    cast, fresh = cast_without(before, context.low.grid, tiles), empty_hits(context.low.grid, tiles)
    cast_rays(context.low, context.rays, context.sculpt, cast, fresh, tell, cancelled, context.recipe.sheet.adaptive)
    return cast, fresh
