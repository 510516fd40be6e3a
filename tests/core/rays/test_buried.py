"""Surface inside another body of the sculpt is no surface to anything that judges."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.cage.inverse_rays import located_of
from inkwell_cast.core.flaws.nearest_surface import nearest_surface
from inkwell_cast.core.flaws.places import spot_of
from inkwell_cast.core.flaws.texel_rows import seen_of
from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.mesh.normals import with_normals

from ...shapes import grid_mesh, plane, torus
from ..bakes import baked, moved


def body(at, size, cells=8):
    """A closed box of many vertices with hard edges, about a place."""
    sides = []
    for axis in range(3):
        for way in (-1, 1):
            turn = np.roll(np.eye(3), axis, axis=1) * np.array([1, 1, 1])
            turn = turn if way > 0 else turn @ np.diag([-1, 1, -1])
            side = grid_mesh(cells, cells, lambda u, v: (u - 0.5, v - 0.5, 0 * u + 0.5), "side")
            sides.append(replace(side, positions=(side.positions @ turn.T).astype(np.float32), uvs=()))
    return with_normals(moved(merge(sides, "body"), at, size))


def bolted():
    """A plate of half a unit, and a bolt that runs through its top face: (low, sculpt)."""
    plate, bolt = body((0.5, 0.5, -0.25), (1.2, 1.2, 0.5), 24), body((0.5, 0.5, 0.0), (0.3, 0.3, 0.2))
    return plane(8), replace(merge([plate, bolt], "high"), uvs=())


def test_points_inside_another_body_are_not_what_a_cage_should_hold():
    made = baked(*bolted(), ["normal"], size=64, outward=0.3, inward=0.05)
    inner = np.abs(made.sculpt.mesh.positions - np.array([0.5, 0.5, 0.0])) < np.array([0.15, 0.15, 0.1]) - 1e-4
    assert inner.all(axis=1).any()  # some of the plate's top lies inside the bolt
    places = located_of(made.assembly, made.warm).place - np.array([0.5, 0.5, 0.0])
    assert not (np.abs(places) < np.array([0.15, 0.15, 0.1]) - 1e-4).all(axis=1).any()
    assert made.coverage().held == 1


@pytest.mark.parametrize("outward", [0.3, 0.02])
def test_the_best_on_a_low_is_the_bolt_and_never_the_plate_inside_it(outward):
    """And a bake that has the bolt is offered nothing that takes it away."""
    made = baked(*bolted(), ["normal"], size=96, outward=outward, inward=0.05)
    judged = made.judgement()
    height, width = judged.visible[0].wanted.shape
    middle = judged.visible[0].wanted[int(0.42 * height) : int(0.58 * height), int(0.42 * width) : int(0.58 * width)]
    assert np.nanmedian(middle) == pytest.approx(0.1, abs=0.01)
    if outward > 0.1:
        words = [mend.words for shown in made.flaws(judged).shown for mend in shown.flaw.mends]
        assert not any("nearest surface" in each for each in words)


def test_an_open_sculpt_buries_nothing():
    made = baked(torus(24, 12), replace(torus(48, 24, small=0.72, name="high"), uvs=()), ["normal"], size=64)
    assert len(located_of(made.assembly, made.warm).place) > 0.9 * len(made.sculpt.mesh.positions)


def test_the_nearest_surface_is_not_offered_over_a_bolt_that_runs_through_its_plate():
    """It is where the plate itself is the nearest, and where what lies below is seen from elsewhere."""
    made = baked(*bolted(), ["normal"], size=96, outward=0.3, inward=0.05)
    (context,) = [sheet.context for sheet in made.sheets]
    seen = seen_of(context, made.judgement().visible[0])
    over = (np.abs(seen.place[:, :2] - 0.5) < 0.14).all(axis=1)
    spot = spot_of(seen, "here", np.flatnonzero(over))
    assert nearest_surface(seen, spot, np.flatnonzero(over)) == []
    (mend,) = nearest_surface(seen, spot, np.flatnonzero(~over))
    assert mend.patches[0].nearest
    shelf = replace(plane(4, 0.2, name="shelf"), uvs=())
    floor = replace(plane(4, 0.01, name="floor"), uvs=())
    open_below = baked(plane(8), merge([shelf, floor], "high"), ["normal"], size=96, outward=0.3, inward=0.05)
    (context,) = [sheet.context for sheet in open_below.sheets]
    seen = seen_of(context, open_below.judgement().visible[0])
    assert len(nearest_surface(seen, spot, np.arange(len(seen.x)))) == 1
