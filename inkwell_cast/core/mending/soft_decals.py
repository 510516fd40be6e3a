"""Soft decals: within the borders of floaters, normals and heights fade into what rays find where no floater is."""

from dataclasses import replace

import numpy as np

from ..base.array_types import F32, AnyArray
from ..base.progress import Cancel
from ..cast.context import Context
from ..cast.hits import Cast
from ..cast.partial_rebake import cast_tiles
from ..maps.decals import opacity
from ..maps.normal import decoded
from ..piece.piece import Assembly
from ..piece.scene_cache import Slot
from ..piece.sculpt import Sculpt
from ..uv.rasterise import TILE
from .blending import blended

BENEATH = Slot[Sculpt]()


def softened(context: Context, share: AnyArray, cancelled: Cancel) -> Context:
    """The cast with each floater laid over what is below it by its opacity as a decal.

    `share` (H, W, 1) is the layer of `maps.decals`: of a texel's samples, how many struck a floater. Where nothing lies
    below a floater it fades into the low itself. Raises Cancelled.
    """
    cast = context.cast
    weight = np.where(share[..., 0] > 0, 1 - opacity(context, share), 0).astype(np.float32)
    if not weight.any():
        return context
    below = _below(context, weight, cancelled)
    normal = blended(_unit(cast.normal), _unit(below.normal), weight)
    return replace(
        context,
        cast=replace(
            cast,
            normal=np.where(weight[..., None] > 0, normal, cast.normal),
            height=blended(cast.height, below.height, weight),
        ),
    )


def _below(context: Context, weight: F32, cancelled: Cancel) -> Cast:
    """What rays find without floaters in the tiles that have a weight; the low itself where they find nothing."""
    cast, grid = context.cast, context.low.grid
    y, x = np.nonzero(weight)
    tiles = np.unique(y // TILE * grid.tiles_across + x // TILE)
    assembly = _without_floaters(context.assembly)
    own = decoded(cast, context.low, context.recipe.basis, np.full(cast.normal.shape, (0.5, 0.5, 1), np.float32))
    if not any(pair.giving for pair in assembly.paired.pairs):
        return replace(cast, normal=own, height=np.zeros_like(cast.height))
    key = str(context.sculpt.serial)
    sculpt = context.warm.once(BENEATH, key, lambda: context.warm.sculpt_beside(assembly))
    found, _ = cast_tiles(
        replace(context, assembly=assembly, sculpt=sculpt), cast, tiles, lambda share: None, cancelled
    )
    none = found.struck == 0
    return replace(found, normal=np.where(none[..., None], own, found.normal), height=np.where(none, 0, found.height))


def _without_floaters(assembly: Assembly) -> Assembly:
    pairs = [replace(pair, floats=[]) for pair in assembly.paired.pairs]
    return replace(assembly, paired=replace(assembly.paired, pairs=pairs))


def _unit(vectors: F32) -> F32:
    long = np.linalg.norm(vectors, axis=2, keepdims=True)
    return np.asarray(vectors / np.maximum(long, 1e-12), np.float32)
