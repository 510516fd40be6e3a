"""Trials: what rays of another way would draw where a map looks wrong. A cause is told where its cure would help."""

from collections.abc import Callable
from dataclasses import replace
from typing import Literal

import numpy as np

from ..base.array_types import F32, F64, I64, U8, Bool
from ..mesh.normals import averaged
from .texel_rows import TexelRows
from .visible import FEW, sums_around

Way = Literal["straight", "averaged"]
# Texels (H, W) of each sheet that are tried; of each sheet the degrees summed over pixels then, and where rays struck.
Trial = Callable[[Way, list[U8]], list[tuple[F32, Bool]]]

TURNS = 5.0  # degrees between a ray and the other way: less cannot be why a place looks wrong
SHIFT = 0.5  # texels by which what stands off the low is moved sideways, the same
CURES = 0.5  # of how much worse than the best a row looks may be left with rays that cure it
LEAST = 0.003  # degrees of the mean that rows add, from which on they are worth a trial


def tried(looked: list[TexelRows], wrong: list[I64], trial: Trial) -> list[TexelRows]:
    """Rows of each sheet, with how much worse than the best the wrong ones would look with rays of other ways."""
    ways: tuple[tuple[Way, Callable[[TexelRows], Bool]], ...] = (("straight", _leaning), ("averaged", _parting))
    for way, worth in ways:
        masks = [_mask(seen, rows[worth(seen.at(rows))]) for seen, rows in zip(looked, wrong, strict=True)]
        share = sum(
            float(np.maximum(seen.looks.share[rows], 0)[at[seen.y[rows], seen.x[rows]] > 0].sum())
            for seen, rows, at in zip(looked, wrong, masks, strict=True)
        )
        if share >= LEAST:
            found = zip(looked, wrong, masks, trial(way, masks), strict=True)
            looked = [_told(seen, way, _looks(seen, rows, at, *drawn)) for seen, rows, at, drawn in found]
    return looked


def shift_of(seen: TexelRows) -> F32:
    """How far sideways what a row strikes is drawn, scene units."""
    return np.asarray(np.abs(seen.height) * np.sin(np.radians(seen.lean)))


def _told(seen: TexelRows, way: Way, looks: F64) -> TexelRows:
    return replace(seen, straight=looks) if way == "straight" else replace(seen, averaged=looks)


def _leaning(seen: TexelRows) -> Bool:
    """Rows whose rays lean from their faces, and strike off the low."""
    return np.asarray((seen.struck > 0) & (seen.lean > TURNS) & (shift_of(seen) * seen.step > SHIFT * seen.size))


def _parting(seen: TexelRows) -> Bool:
    """Rows of faces at whose corners rays do not leave along the averaged normals."""
    offsets = seen.context.rays.offsets.astype(np.float64)
    ways = averaged(seen.context.assembly.low)[seen.context.low.triangles]
    along = np.einsum("pkc,pkc->pk", offsets, ways) / np.maximum(np.linalg.norm(offsets, axis=2), 1e-30)
    return np.asarray((along.min(axis=1) < np.cos(np.radians(TURNS)))[seen.triangle], np.bool_)


def _mask(seen: TexelRows, rows: I64) -> U8:
    """The texels (H, W) that some rows stand for."""
    height, width = seen.visible.pixels.shape
    mask = np.zeros((height, width), np.uint8)
    for down in range(seen.step):
        for right in range(seen.step):
            mask[np.minimum(seen.y[rows] + down, height - 1), np.minimum(seen.x[rows] + right, width - 1)] = 1
    return mask


def _looks(seen: TexelRows, rows: I64, at: U8, angle: F32, struck: Bool) -> F64:
    """By how much rows (N,) look worse than the best in a trial, NaN where that was not tried or struck nothing."""
    visible, x, y = seen.visible, seen.x[rows], seen.y[rows]
    best = visible.angle - visible.excess
    nothing = np.zeros_like(best)
    around = sums_around(x, y, seen.step, (angle - best, visible.pixels + visible.bare, nothing, nothing))
    looks = np.full(len(seen.x), np.nan)
    known = (at[y, x] > 0) & struck[y, x]
    looks[rows] = np.where(known, around[:, 0] / np.maximum(around[:, 1], FEW), np.nan)
    return looks
