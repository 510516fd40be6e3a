"""How the scenes of a sculpt are built: quickly to look at it and for few rays, with care for many."""

import pytest

from inkwell_cast.core.piece import scene_cache
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm, quickly_built
from inkwell_cast.core.settings.maps import Occlusion
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import torus


@pytest.mark.parametrize(
    ("side", "maps", "triangles", "quick"),
    [
        (2048, ["normal"], 400_000, False),  # small scenes are built in a blink
        (512, ["normal"], 1_000_000, True),
        (2048, ["normal"], 1_000_000, False),
        (2048, ["normal"], 20_000_000, True),
        (2048, ["normal", "occlusion"], 20_000_000, False),
    ],
)
def test_few_rays_for_so_many_triangles_strike_what_is_built_quickly(side, maps, triangles, quick):
    recipe = Recipe(sheet=Sheet(width=side, height=side), occlusion=Occlusion(rays=64)).with_maps(*maps)
    assert quickly_built(recipe, triangles) is quick


def test_what_was_looked_at_first_changes_nothing_of_what_a_bake_strikes(monkeypatch):
    monkeypatch.setattr(scene_cache, "MANY", 0)
    few, many = (Recipe(sheet=Sheet(width=side, height=side)) for side in (16, 2048))
    meshes, warm = BakeMeshes([torus(20, 10)], [torus(48, 24)]), Warm()
    seen = warm.sculpt(assemble(many, meshes, warm))
    assert seen.quick
    baked = warm.sculpt(assemble(many, meshes, warm), to_bake=True)
    assert not baked.quick
    assert baked.serial == seen.serial  # what was computed of it holds on
    assert warm.sculpt(assemble(few, meshes, warm)) is baked
    assert warm.sculpt(assemble(few, meshes, warm), to_bake=True).quick
    assert warm.sculpt(assemble(few, meshes, warm), to_bake=True) is warm.sculpt(assemble(few, meshes, warm))
