"""The sheets of a piece: which triangles of the low lie on which, and where.

One sheet takes every triangle, and UVs beyond the tile wrap around, as textures repeat. Sheets by material take the
triangles of one material each. Sheets by tile are numbered 1001 + column + 10 row, ten columns to a row.
"""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F64, I32, I64, Bool
from ..mesh.mesh import Mesh
from ..settings.recipe import Recipe

MOST_TILES = 32  # a triangle that spans more in one direction is no sensible unwrap
FARTHEST = 1e6  # tiles
WRAP_TOLERANCE = 1e-7  # of a tile: touching the border is not crossing it
TILE_TOLERANCE = 1e-3
COLUMNS = 10


@dataclass(frozen=True, slots=True)
class SheetPlan:
    """A sheet: its name, size, the low's triangles that lie on it (P,) int32, ascending, and their UVs (P, 3, 2).

    A triangle that reaches into several tiles stands here once for each.
    """

    name: str
    width: int
    height: int
    triangles: I32
    uvs: F64


@dataclass(frozen=True, slots=True)
class Layout:
    sheets: list[SheetPlan]
    outside: int  # triangles that lie on no sheet


def lay_out_sheets(recipe: Recipe, low: Mesh) -> Layout:
    """The sheets of a low with UVs."""
    if not len(low.triangles):
        return Layout([], 0)
    uvs = low.uvs[recipe.sheet.channel].at_corners().astype(np.float64)
    by_tile = recipe.sheet.split == "tile"
    triangles, columns, rows = _tiles(uvs, TILE_TOLERANCE if by_tile else WRAP_TOLERANCE)
    placed = uvs[triangles] - np.stack([columns, rows], axis=1)[:, None]
    if by_tile:
        inside = (columns >= 0) & (columns < COLUMNS) & (rows >= 0)
        triangles, placed, columns, rows = triangles[inside], placed[inside], columns[inside], rows[inside]
        numbers: I64 = 1001 + columns + COLUMNS * rows
        chosen = [(str(n), numbers == n) for n in np.unique(numbers)]
    elif recipe.sheet.split == "material":
        material = low.materials[triangles]
        names = np.array(low.material_names)
        chosen = [(str(n) or "no material", names[material] == n) for n in dict.fromkeys(low.material_names)]
    else:
        chosen = [("", np.ones(len(triangles), bool))]
    sheets = [_sheet(recipe, name, triangles, placed, mask) for name, mask in chosen if mask.any()]
    return Layout(sheets, len(low.triangles) - len(np.unique(triangles)))


def _sheet(recipe: Recipe, name: str, triangles: I32, placed: F64, mask: Bool) -> SheetPlan:
    return SheetPlan(name, *recipe.size_of(name), triangles[mask], placed[mask])


def _tiles(uvs: F64, tolerance: float) -> tuple[I32, I64, I64]:
    """Every triangle once for each tile that its box reaches into: triangles, columns and rows, triangles ascending."""
    near = np.clip(uvs, -FARTHEST, FARTHEST)
    low = np.floor(near.min(axis=1) + tolerance).astype(np.int64)
    high = np.maximum(np.ceil(near.max(axis=1) - tolerance).astype(np.int64) - 1, low)
    span = high - low + 1
    span[(span > MOST_TILES).any(axis=1) | (near != uvs).any(axis=(1, 2))] = 0
    count = span.prod(axis=1)
    triangles = np.repeat(np.arange(len(uvs), dtype=np.int32), count)
    place = np.arange(len(triangles)) - np.repeat(np.cumsum(count) - count, count)
    across = np.maximum(span[triangles, 0], 1)
    return triangles, low[triangles, 0] + place % across, low[triangles, 1] + place // across
