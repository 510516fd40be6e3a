"""Bakes of touched tiles only: the same bytes as a bake of everything, and no more tiles than were touched."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.bake.cast_cache import laid_out
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.maps import REGISTRY
from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings.maps import Occlusion
from inkwell_cast.core.settings.mends import Mend
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.regions import Crease, Omission, Pocket, Stroke
from inkwell_cast.core.settings.scope_settings import ScopeSettings
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import cube, grid_mesh

MAPS = ["normal", "occlusion", "curvature", "height", "thickness", "position", "ids", "opacity"]
EVERY = [key for key in REGISTRY if key != "displacement"]


def bumpy():
    """A plane with waves, and a slab over one corner as a part of its own."""
    waves = grid_mesh(
        60, 60, lambda u, v: (u, v, 0.02 * np.sin(20 * u) * np.cos(17 * v)), "waves_high", uv=lambda u, v: (u, v)
    )
    slab = replace(cube(0.15, (0.8, 0.8, 0.05), "waves_high_slab"), uvs=())
    return merge([replace(waves, uvs=()), slab], "high")


@pytest.fixture(scope="module")
def meshes():
    low = grid_mesh(12, 12, lambda u, v: (u, v, 0.03 * np.sin(9 * u)), "waves_low", uv=lambda u, v: (u, v))
    return BakeMeshes([], [], [low, bumpy()])


def recipe(**more):
    given = {
        "reach": Reach(unit="scene", outward=0.2, inward=0.1),
        "output": Output(maps=MAPS, depth=16),
        "sheet": Sheet(width=144, height=144, samples=4),
        "occlusion": Occlusion(rays=8, denoise=True),
    }
    return Recipe(**(given | more))


CHANGES = {
    "a pocket": {"pockets": [Pocket(centre=(0.3, 0.4, 0), radius=0.1, outward=0.001, inward=0.001)]},
    "a stroke": {"nudges": [Stroke(points=[(0.6, 0.3, 0), (0.7, 0.3, 0)], radius=0.06, amount=0.19, kind="in")]},
    "a straightening": {
        "nudges": [Stroke(points=[(0.2, 0.7, 0)], radius=0.08, amount=1, kind="straighten", falloff=0.5)]
    },
    "an omission": {
        "mends": [Mend(omissions=[Omission(part="high/waves_high_slab", centre=(0.8, 0.8, 0), radius=0.06)])]
    },
    "a level": {"levels": {"object:waves_low/waves_low": ScopeSettings(outward=0.03)}},
    "a crease": {"mends": [Mend(creases=[Crease(centre=(0.5, 0.5, 0), radius=0.2, directions="split")])]},
    "nothing": {"output": Output(maps=["normal", "height"], depth=8)},
}


@pytest.mark.parametrize("name", CHANGES)
def test_touched_tiles_bake_to_the_bytes_of_a_whole_bake(meshes, name):
    warm, maps = Warm(), {"output": Output(maps=EVERY, depth=16)} if name == "a pocket" else {}
    before = dict(bake(recipe(**maps), meshes, warm=warm).images)
    changed = recipe(**(maps | CHANGES[name]))
    again = bake(changed, meshes, warm=warm)
    whole = bake(changed, meshes)
    tiles = len(again.low.grid.busy_tiles)
    cast = laid_out(again.assembly, meshes, warm).recast
    assert cast <= {"nothing": 0, "a level": tiles}.get(name, tiles // 2)
    for key, image in whole.images.items():
        np.testing.assert_array_equal(again.images[key], image, err_msg=key)
    np.testing.assert_array_equal(again.cast.shared, whole.cast.shared)
    if name != "nothing":
        assert any((again.images[key] != before[key]).any() for key in ("height", "opacity"))


def test_taking_a_mend_back_gives_the_first_bake_again(meshes):
    warm = Warm()
    first = bake(recipe(), meshes, warm=warm)
    kept = {key: image.copy() for key, image in first.images.items()}
    cast = first.cast.normal.copy()
    bake(recipe(**CHANGES["a pocket"]), meshes, warm=warm)
    np.testing.assert_array_equal(first.cast.normal, cast)  # what was handed out is not changed
    back = bake(recipe(), meshes, warm=warm)
    for key, image in kept.items():
        np.testing.assert_array_equal(back.images[key], image)


def test_a_map_asked_for_with_the_mend_is_gathered_whole(meshes):
    warm = Warm()
    few = Output(maps=["normal"], depth=16)
    bake(recipe(output=few), meshes, warm=warm)
    again = bake(recipe(**CHANGES["a pocket"]), meshes, warm=warm)
    whole = bake(recipe(**CHANGES["a pocket"]), meshes)
    for key, image in whole.images.items():
        np.testing.assert_array_equal(again.images[key], image, err_msg=key)


def test_another_sculpt_bakes_everything(meshes):
    warm = Warm()
    bake(recipe(), meshes, warm=warm)
    other = BakeMeshes([], [], [meshes.named[0], replace(bumpy(), name="high")])
    again = bake(recipe(), other, warm=warm)
    assert laid_out(again.assembly, other, warm).recast == len(again.low.grid.busy_tiles)
