"""Bands: some tiles of a sheet, cast and gathered by themselves, on this machine or another.

A texel depends on nothing but its own rays, so whoever finds a band finds the same, bit for bit. What cuts a sheet into
bands and has them found is `RemoteBands`; what comes back is put into the sheet by the one who bakes.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field, fields
from typing import Any, Protocol

import numpy as np

from ..base.array_types import I64, AnyArray
from ..base.progress import Cancel
from ..cast.hits import Cast, bands_of, empty_cast, empty_hits
from ..cast.kernel import cast_rays
from ..maps import LAYERS
from ..maps.displacement import displaced
from ..maps.layer import empty
from ..piece.assembly import assemble
from ..piece.piece import BakeMeshes
from ..piece.scene_cache import Slot, Warm
from ..settings.recipe import Recipe
from ..uv.rasterise import TILE, Grid
from .cast_cache import LaidOut, laid_out

OF_TEXELS = tuple(f.name for f in fields(Cast) if f.name not in ("shared", "samples"))


@dataclass(frozen=True, slots=True)
class Band:
    """What is to be found: tiles (K,) int64 of the sheet of this number, and these layers by key."""

    sheet: int
    tiles: I64
    layers: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class BandResult:
    """What was found, tile after tile, each in rows of texels.

    cast[name] (N, ...) of the arrays of a `Cast`, shared (K,) int64, layers[key] (N, channels).
    """

    tiles: I64
    cast: dict[str, AnyArray]
    shared: I64
    layers: dict[str, AnyArray]


class RemoteBands(Protocol):
    """Has bands found by others."""

    def find(
        self, recipe: Recipe, meshes: BakeMeshes, sheet: int, tiles: I64, layers: tuple[str, ...], cancelled: Cancel
    ) -> Iterator[BandResult]:
        """All of some tiles of a sheet, in bands that come in any order. Raises Cancelled and InputProblem."""


@dataclass(slots=True)
class _Scratch:
    """A sheet that bands are found on: its cast and layers as far as they were, and what layers need of the whole."""

    laid: LaidOut
    cast: Cast
    layers: dict[str, AnyArray] = field(default_factory=dict)
    prepared: dict[str, Any] = field(default_factory=dict)


SCRATCH = Slot[_Scratch]()


def find_band(
    recipe: Recipe, meshes: BakeMeshes, band: Band, warm: Warm, cancelled: Cancel = lambda: False
) -> BandResult:
    """Cast and gather a band; `warm` keeps scenes, cage and rays for the next. Raises InputProblem and Cancelled."""
    assembly = assemble(recipe, meshes, warm)
    sculpt = warm.sculpt(assembly, to_bake=True)
    assembly = displaced(assembly, warm, lambda share: None)
    laid = laid_out(assembly, meshes, warm)
    sheet = laid.sheets[band.sheet]
    grid = sheet.low.grid
    key = f"{id(laid)} {band.sheet} {recipe.model_dump_json()}"
    kept = warm.once(SCRATCH, key, lambda: _Scratch(laid, empty_cast(grid)))
    context = sheet.context(assembly, sculpt, warm, kept.cast)
    for tiles in bands_of(grid, band.tiles):
        hits = empty_hits(grid, tiles)
        cast_rays(sheet.low, sheet.rays, sculpt, kept.cast, hits, lambda share: None, cancelled, recipe.sheet.adaptive)
        for key in band.layers:
            if key not in kept.layers:
                kept.layers[key], kept.prepared[key] = empty(LAYERS[key], kept.cast), LAYERS[key].prepare(context)
            LAYERS[key].gather(context, hits, kept.prepared[key], kept.layers[key], lambda share: None, cancelled)
    rows = texels_of(grid, band.tiles)
    cast = {name: _flat(getattr(kept.cast, name))[rows] for name in OF_TEXELS}
    layers = {key: _flat(kept.layers[key])[rows] for key in band.layers}
    return BandResult(band.tiles, cast, kept.cast.shared[band.tiles], layers)


def put(found: BandResult, grid: Grid, cast: Cast, layers: dict[str, AnyArray]) -> None:
    """Write what was found of a sheet's tiles to its cast and layers."""
    rows = texels_of(grid, found.tiles)
    for name, values in found.cast.items():
        _flat(getattr(cast, name))[rows] = values
    for key, values in found.layers.items():
        _flat(layers[key])[rows] = values
    cast.shared[found.tiles] = found.shared


def texels_of(grid: Grid, tiles: I64) -> I64:
    """The texels of some tiles, (N,) counted in rows of the sheet, tile after tile."""
    inside = np.arange(TILE)
    y = (tiles // grid.tiles_across * TILE)[:, None, None] + inside[None, :, None]
    x = (tiles % grid.tiles_across * TILE)[:, None, None] + inside[None, None, :]
    return np.asarray((y * grid.width + x)[(y < grid.height) & (x < grid.width)], np.int64)


def _flat(array: AnyArray) -> AnyArray:
    """The rows of texels of an array (H, W, ...) as one."""
    return array.reshape(-1, *array.shape[2:])
