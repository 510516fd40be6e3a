"""Every length carries its own unit, and switching one changes nothing else."""

import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.cage.cage import build_cage, rays_of
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.rays.ray import reach_at
from inkwell_cast.core.settings.maps import Curvature, Occlusion, Thickness
from inkwell_cast.core.settings.mends import Mend
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.reach_unit import in_other_unit, with_reach_unit
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.regions import Patch, Pocket
from inkwell_cast.core.settings.scope_settings import ScopeSettings
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import torus

MAPS = ["curvature", "occlusion", "thickness"]
SIZE = Sheet(width=32, height=32, samples=1)
EVERY = Recipe(
    reach=Reach(outward=3.0, inward=2.0),
    levels={"object:torus_low.obj/torus_low": ScopeSettings(outward=4.0)},
    pockets=[Pocket(centre=(2.7, 0, 0), radius=10, outward=6, inward=1)],
    patches=[Patch(centre=(0, 2.7, 0), radius=0.4, outward=5.0)],
    mends=[
        Mend(pockets=[Pocket(centre=(-2.7, 0, 0), radius=8, outward=7)], levels={"pair:x": ScopeSettings(inward=1.0)})
    ],
)


def meshes():
    return BakeMeshes([torus(20, 10, name="torus_low.obj")], [torus(60, 30, small=0.72, name="torus_high.ply")])


def test_a_reach_in_scene_units_leaves_the_other_lengths_as_they_are():
    small = {
        "sheet": SIZE,
        "output": Output(maps=MAPS, depth=16),
        "curvature": Curvature(strength=3.0),
        "occlusion": Occlusion(rays=16, distance=5.0),
        "thickness": Thickness(rays=16, limit=20.0),
    }
    diagonal = torus(20, 10).diagonal
    shares = Recipe(reach=Reach(outward=3.0, inward=3.0), **small)
    units = Recipe(reach=Reach(unit="scene", outward=0.03 * diagonal, inward=0.03 * diagonal), **small)
    one, two = (bake(recipe, meshes()) for recipe in (shares, units))
    for key in MAPS:
        assert np.abs(one.images[key].astype(int) - two.images[key].astype(int)).max() <= 300, key


@pytest.mark.parametrize(
    ("name", "group", "field", "given"),
    [
        ("curvature", Curvature, "radius", 2.0),
        ("occlusion", Occlusion, "distance", 5.0),
        ("thickness", Thickness, "limit", 20.0),
    ],
)
def test_each_length_has_both_units(name, group, field, given):
    diagonal = torus(20, 10).diagonal

    def made(own):
        return bake(Recipe(sheet=SIZE, output=Output(maps=[name]), **{name: own}), meshes()).images[name]

    shares, units = group(**{field: given}), group(**{field: given * diagonal / 100}, unit="scene")
    np.testing.assert_allclose(made(shares), made(units), atol=1)


def test_switching_the_unit_of_the_reach_moves_no_ray():
    diagonal = assemble(EVERY, meshes()).low.diagonal
    other = with_reach_unit(EVERY, "scene", diagonal)
    assert other.reach.unit == "scene"
    assert other.reach.outward == pytest.approx(0.03 * diagonal, rel=1e-5)
    assert other.mends[0].pockets[0].outward == pytest.approx(0.07 * diagonal, rel=1e-5)
    assert other.levels["object:torus_low.obj/torus_low"].inward is None
    ends = []
    for recipe in (EVERY, other):
        assembly = assemble(recipe, meshes())
        triangles = np.arange(len(assembly.low.triangles))
        ends.append(reach_at(rays_of(assembly, build_cage(assembly)), triangles, np.full((len(triangles), 3), 1 / 3)))
    np.testing.assert_allclose(*ends, rtol=1e-4, atol=1e-6)
    back = with_reach_unit(other, "percent", diagonal)
    assert back.reach.outward == pytest.approx(3.0, rel=1e-5)
    assert with_reach_unit(EVERY, "percent", diagonal) is EVERY


def test_recipes_of_before_say_what_they_said():
    old = {"reach": {"unit": "scene", "outward": 2.0, "clearance": 0.5}, "curvature": {"radius": 0.1}}
    found = Recipe.model_validate(old)
    assert found.curvature.unit == "scene"
    assert found.reach.margin_unit == "scene"
    assert found.occlusion.unit == "percent"  # its distance was not set
    assert Recipe.model_validate(found.model_dump()) == found
    new = Recipe(reach=Reach(unit="scene"))
    assert Recipe.model_validate(new.model_dump()).curvature.unit == "percent"


def test_the_other_unit_is_said():
    assert in_other_unit(1.5, "percent", 200.0) == "= 3 units"
    assert in_other_unit(3.0, "scene", 200.0) == "= 1.5 % of the low"
    assert in_other_unit(3.0, "scene", 0.0) == ""
