"""Sculpts of tiles and strips that must repeat: copies beyond the borders, where a neighbour would have them.

The way from one tile to the next is what the low's UVs say: where u or v grows by 1. So what pokes over one border is
seen from the other too, by rays, occlusion and all that looks around, and maps meet at opposite borders.
"""

from dataclasses import replace
from itertools import product

import numpy as np

from ..base.array_types import F64, Bool
from ..base.errors import InputProblem
from ..base.on_demand import on_demand
from ..mesh.mesh import Mesh, merge, subset
from ..settings.pairing import Pair, Paired
from ..settings.recipe import Recipe
from .piece import Assembly, take

cKDTree = on_demand("scipy.spatial", "cKDTree")

BEYOND = 0.5  # of a tile: how far copies reach
ONE = 1e-5  # of a tile's diagonal: vertices of neighbours that lie nearer are one
BENT = 0.02  # of a tile's diagonal: how far a low may lie off the even grid that its UVs are taken for


def shifts_of(assembly: Assembly) -> F64:
    """The way from one tile to the next, along u and along v, for the low of each pair, (P, 2, 3) scene units."""
    low, recipe = assembly.low, assembly.recipe
    lows = [subset(low, assembly.low_pair == n) for n in range(len(assembly.paired.pairs))]
    return np.array([_grid(own, pair, recipe)[:2] for own, pair in zip(lows, assembly.paired.pairs, strict=True)])


def with_repeats(recipe: Recipe, files: dict[str, Mesh], paired: Paired) -> dict[str, Mesh]:
    """The files of a piece, with copies of what each pair strikes across the borders of its low's tile.

    Raises InputProblem for lows whose UVs lay them out so unevenly that nobody can say where the next tile lies.
    """
    out = dict(files)
    for pair in paired.pairs:
        lows = merge([take(files[part.file], (part.name,)) for part in pair.lows], pair.name)
        grid = _grid(lows, pair, recipe)
        for part in pair.giving:
            mesh = out[part.file]
            chosen = np.array([name == part.name for name in mesh.object_names])[mesh.objects]
            out[part.file] = _repeated(mesh, chosen, grid, recipe.sheet.repeat)
    return out


def _grid(lows: Mesh, pair: Pair, recipe: Recipe) -> F64:
    """Where the tile lies (3, 3): the way from u = 0 to 1, that from v = 0 to 1, and the place of u = v = 0."""
    channel = recipe.sheet.channel
    if channel >= len(lows.uvs):
        return np.zeros((3, 3))  # told where the low is laid out
    uv, places = lows.uvs[channel].at_corners().reshape(-1, 2), lows.positions[lows.triangles].reshape(-1, 3)
    known = np.column_stack([uv.astype(np.float64), np.ones(len(uv))])
    grid, _, rank, _ = np.linalg.lstsq(known, places.astype(np.float64), rcond=None)
    normal = np.cross(grid[0], grid[1])
    size = float(np.linalg.norm(grid[:2]))
    off = places - known @ grid
    along = off - np.outer(off @ normal, normal) / max(float(normal @ normal), 1e-300)  # relief across is welcome
    if rank < 3 or float(np.abs(along).max()) > BENT * size:
        raise InputProblem(
            pair.lows[0].file,
            "Its UVs do not lay it out as a flat tile, so the next tile has no place.",
            "Unwrap the plane straight, or let the sheet not repeat.",
            pair.lows[0].name,
        )
    return np.asarray(grid)


def _repeated(mesh: Mesh, chosen: Bool, grid: F64, repeat: str) -> Mesh:
    """A mesh with copies of its chosen triangles around it."""
    steps = product(*[(-1, 0, 1) if way in repeat or repeat == "both" else (0,) for way in "uv"])
    inverse, original = np.linalg.pinv(grid[:2]), subset(mesh, chosen)
    whole = [mesh]
    tree = cKDTree(mesh.positions)
    near = ONE * float(np.linalg.norm(grid[:2]))
    for i, j in steps:
        if i == j == 0 or not chosen.any():
            continue
        moved = (original.positions + i * grid[0] + j * grid[1]).astype(np.float32)
        place = (moved - grid[2]) @ inverse
        inside = np.logical_and(place > -BEYOND, place < 1 + BEYOND).all(axis=1)
        away, nearest = tree.query(moved, distance_upper_bound=near)
        met = np.isfinite(away)
        moved[met] = mesh.positions[nearest[met]]
        copy = subset(replace(original, positions=moved), inside[original.triangles].any(axis=1))
        if len(copy.triangles):
            whole.append(copy)
    made = merge(whole, mesh.name)
    names, materials = len(mesh.object_names), len(mesh.material_names)
    return replace(
        made,
        objects=made.objects % names,
        object_names=mesh.object_names,
        materials=made.materials % materials,
        material_names=mesh.material_names,
        material_colors=mesh.material_colors,
        textures=mesh.textures,
        emission_colors=mesh.emission_colors,
        emission_textures=mesh.emission_textures,
        notes=mesh.notes,
    )
