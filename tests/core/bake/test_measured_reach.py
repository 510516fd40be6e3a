"""Measure: the reach that looks best, whatever few texels ask for; and fitting, refused where it looks worse."""

from dataclasses import replace

import pytest

from inkwell_cast.core.bake import measured_reach
from inkwell_cast.core.bake.measured_reach import Measured, measure, try_fit
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import grid_mesh, plane, ribbed, torus
from ..bakes import moved


def recipe(outward=0.3, inward=0.3):
    return Recipe(
        reach=Reach(unit="scene", outward=outward, inward=inward),
        sheet=Sheet(width=128, height=128, samples=1),
        output=Output(maps=["normal"]),
    )


def test_a_measured_reach_holds_what_is_there_and_a_bake_with_it_misses_nothing():
    low, high = torus(16, 8), replace(torus(200, 100, small=0.78, name="high"), uvs=())
    found = measure(recipe(), BakeMeshes([low], [high]))
    assert found.outward < 0.3
    assert found.beyond < 0.001
    again = recipe(found.outward, found.inward)
    assert bake(again, BakeMeshes([low], [high])).cast.missed == 0


def test_it_ends_before_the_next_surface_and_says_what_lies_farther():
    """A ribbed lid over a ribbed floor, and one small plate high up that nothing should reach for."""
    floor, lid = ribbed("floor", 0.01, across=1), ribbed("lid", 0.25)
    speck = moved(ribbed("speck", 0.12), (0.5, 0.5, 0), (0.004, 0.004, 1))
    high = replace(merge([floor, lid, speck], "high"), uvs=())
    found = measure(recipe(outward=0.4), BakeMeshes([plane()], [high]))
    assert found.outward < 0.12
    assert found.before > found.seen + 3
    assert found.beyond > 0
    assert "lies farther" in found.words


def test_a_floating_plate_above_solid_ground_is_reached_for():
    plate = moved(ribbed("plate", 0.03), (0.3, 0.3, 0), (0.4, 0.4, 1))
    high = replace(merge([ribbed("floor", 0.002, across=1), plate], "high"), uvs=())
    assert 0.03 < measure(recipe(outward=0.01), BakeMeshes([plane()], [high])).outward < 0.06


def test_only_the_scope_is_measured():
    low = plane(2)
    high = replace(grid_mesh(40, 40, lambda u, v: (u, v, 0 * u + 0.02), "high"), uvs=())
    found = measure(recipe(), BakeMeshes([low], [high]), "object:plane/plane")
    assert 0.02 < found.outward < 0.04


@pytest.mark.parametrize(("fitted", "serves"), [(1.0, True), (1.2, False)])
def test_a_fit_that_looks_worse_is_refused_in_words(monkeypatch, fitted, serves):
    even = Measured(0.01, 0.02, 1.0, 2.0, 0.0, [], 9)
    monkeypatch.setattr(measured_reach, "measure", lambda *given: even)
    monkeypatch.setattr(measured_reach, "_degrees", lambda made: fitted)
    found = try_fit(recipe(), BakeMeshes([torus(16, 8)], [replace(torus(40, 20, name="high"), uvs=())]))
    assert found.serves == serves
    assert f"{fitted:.2f}° as seen with a cage fitted from it, 1.00° with the best even reach, 0.01 out" in found.words
    assert ("The even one is set" in found.words) != serves
    assert even.set_in(Recipe(), 2.0).reach.outward == 0.5  # percent of a diagonal of 2
    fit_asked = Recipe(reach=Reach(shape="fitted"))
    assert found.set_in(fit_asked, 2.0).reach.shape == ("fitted" if serves else "even")
