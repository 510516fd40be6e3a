"""Small bakes and their maps as values, shared by the tests of maps."""

from dataclasses import replace

import numpy as np

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet


def baked(low, highs, maps, size=48, samples=1, outward=0.3, inward=0.3, warm=None, reach_of_all=None, **groups):
    recipe = Recipe(
        reach=reach_of_all or Reach(unit="scene", outward=outward, inward=inward),
        sheet=Sheet(width=size, height=size, samples=samples, padding=0),
        output=Output(maps=maps, depth=16),
        **groups,
    )
    return bake(recipe, BakeMeshes([low], highs if isinstance(highs, list) else [highs]), warm=warm)


def values(result, key):
    """A map as values from 0 to 1, grey ones (H, W)."""
    image = result.images[key].astype(np.float64) / 65535
    return image[..., 0] if image.shape[2] == 1 else image


def facts(result, key):
    return result.sheets[0].facts[key]


def upside_down(mesh):
    return replace(mesh, triangles=mesh.triangles[:, ::-1].copy(), normals=None, uvs=())


def moved(mesh, by, scale=(1, 1, 1)):
    return replace(mesh, positions=(mesh.positions * np.array(scale) + np.array(by)).astype(np.float32))
