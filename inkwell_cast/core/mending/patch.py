"""Patches of the low that are taken from a bake with other settings, blended in over their rims."""

from dataclasses import fields, replace
from typing import Any

import numpy as np

from ..base.array_types import F32, I32, I64, AnyArray
from ..base.kernels import kernel
from ..base.progress import Cancel
from ..base.records import Record
from ..cage.cage import build_cage, rays_of
from ..cage.fit import cage_of
from ..cast.context import Context
from ..cast.hits import Cast
from ..cast.partial_rebake import cast_tiles
from ..maps import LAYERS
from ..maps.layer import gather_tiles
from ..rays.modifiers.modifiers import IS_NEAREST
from ..rays.modifiers.soft_rim import fade
from ..settings.regions import Patch
from ..uv.rasterise import tile_box
from .blending import blended
from .patch_on_sheet import patch_on, share_of_radius


def patched(
    context: Context, rough: dict[str, AnyArray], patches: list[Patch], cancelled: Cancel
) -> tuple[Context, dict[str, AnyArray]]:
    """What rays with the settings of some patches, which all have the same, find inside, blended in over their rims."""
    cast = context.cast
    laid = [(patch, *patch_on(context, patch.centre, patch.radius)) for patch in patches]
    tiles = np.unique(np.concatenate([own for _, _, own in laid]))
    if not len(tiles):
        return context, rough
    there = _with_settings(context, patches[0])
    other, fresh = cast_tiles(there, cast, tiles, lambda share: None, cancelled)
    there = replace(there, cast=other)
    weight = np.zeros(cast.covered.shape, np.float32)
    for patch, spread, own in laid:
        one = np.zeros_like(weight)
        share_of_radius(context, spread, own, patch.radius, one)
        _fade_all(own, context.low.grid.record, cast.low_triangle, patch.rim, one)
        np.maximum(weight, one, out=weight)
    weight[other.struck == 0] = 0
    weight[(cast.struck == 0) & (weight > 0)] = 1
    names = [f.name for f in fields(Cast) if f.name not in ("shared", "samples")]
    mixed_cast: dict[str, Any] = {name: blended(getattr(cast, name), getattr(other, name), weight) for name in names}
    mixed = {}
    for key, values in rough.items():
        out = gather_tiles(there, LAYERS[key], values, tiles, fresh, lambda share: None, cancelled)
        mixed[key] = blended(values, out, weight)
    return replace(context, cast=replace(cast, **mixed_cast)), mixed


def settings_of(patch: Patch) -> dict[str, Any]:
    """All of a patch but where it lies."""
    return patch.model_dump(exclude={"centre", "radius", "rim"})


def _with_settings(context: Context, patch: Patch) -> Context:
    """The context with the rays that a patch asks for.

    A fitted cage stays as it is fitted, with the patch's directions, unless the patch says how far out rays start.
    """
    given = {name: value for name in ("directions", "outward", "inward") if (value := getattr(patch, name)) is not None}
    recipe, base = context.recipe, context.assembly
    cleared = {name: level.model_copy(update=dict.fromkeys(given)) for name, level in recipe.levels.items()}
    changed = recipe.model_copy(update={"reach": recipe.reach.model_copy(update=given), "levels": cleared})
    assembly, lengths = replace(base, recipe=changed), None
    if recipe.reach.shape == "fitted" and patch.outward is None:
        lengths = np.linalg.norm(cage_of(base, context.warm).offsets, axis=2).astype(np.float32)
    rays = rays_of(assembly, build_cage(assembly, lengths), context.low.triangles)
    rays.flags[:] |= IS_NEAREST if patch.nearest else 0
    return replace(context, assembly=assembly, rays=rays)


@kernel
def _fade_all(tiles: I64, grid: Record, low_triangle: I32, rim: float, weight: F32) -> None:
    """Turn shares of a radius, weight (H, W), into weights: 1 inside, 0 beyond the rim and off the low."""
    for tile in tiles:
        x0, y0, columns, rows = tile_box(tile, grid)
        for y in range(y0, y0 + rows):
            for x in range(x0, x0 + columns):
                weight[y, x] = fade(weight[y, x], rim) if low_triangle[y, x] >= 0 else 0.0
