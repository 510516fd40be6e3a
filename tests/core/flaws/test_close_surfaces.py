"""Surfaces that lie close: rays that strike the wrong one, and what is accepted or left out on one of them alone."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.cast.sheet_surroundings import points_of
from inkwell_cast.core.mesh.mesh import merge, values_at_corners
from inkwell_cast.core.review.probe import probe
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.regions import Accepted, Omission

from ...shapes import grid_mesh, plane, ribbed
from ..bakes import baked, moved
from .test_flaws import found, frame


def plates(apart):
    """Two plates, one over the other, as one pair of two lows and two highs."""
    lows = [
        replace(moved(mesh, (0, 0, z)), uvs=(values_at_corners(mesh.uvs[0].at_corners() * np.float32(0.49) + at),))
        for mesh, z, at in ((plane(2, name="under"), 0, np.float32(0)), (plane(2, name="over"), apart, np.float32(0.5)))
    ]
    highs = [ribbed("under top", 0.002, across=1), ribbed("over top", apart + 0.002)]
    return merge(lows, "low"), merge(highs, "high")


def test_what_is_as_it_should_be_on_one_finger_is_still_told_on_the_next():
    low, _ = plates(0.1)
    high = merge([frame(), moved(replace(frame(), name="second"), (0, 0, 0.1))], "high")
    near = {"outward": 0.04, "inward": 0.04}
    both = found(low, high, **near)
    assert len(both) == 2
    there = Accepted(cause=both[0].flaw.cause, centre=both[0].flaw.spot, radius=0.35)
    (left,) = found(low, high, **near, accepted=[there])
    assert left.flaw.part == both[1].flaw.part
    assert np.linalg.norm(np.subtract(left.flaw.spot, there.centre)) < there.radius  # it lies within the ball


def test_rays_that_strike_another_part_are_found_and_each_mend_cures_them():
    low, high = plates(0.3)
    own = Reach(unit="scene", outward=0.4, inward=0.1)

    def other(**more):
        low_and_high = baked(low, high, ["normal"], size=96, reach_of_all=own, **more)
        return [s.flaw for s in low_and_high.flaws().shown if s.flaw.cause == "other"]

    (flaw,) = other()
    assert flaw.part == "low/under"
    assert "strike what lies 0.002 from over" in flaw.what
    leave, pocket, nearest = flaw.mends
    assert (leave.words, nearest.words) == ("Leave out over top here", "Take the nearest surface here")
    assert pocket.pockets[0].outward == pytest.approx(1.1 * 0.002 + 0.002 * low.diagonal)
    for mend in flaw.mends:
        assert other(mends=[mend]) == [], mend.words
    assert other(mends=[flaw.mends[0].model_copy(update={"on": False})]) != []


def test_parts_that_strike_each_other_can_become_pairs_of_their_own():
    """A shelf over a corner of a floor: the floor's rays strike it there, and the floor elsewhere."""
    floor, shelf = plane(4, name="floor"), grid_mesh(2, 2, lambda u, v: (0.4 * u, 0.4 * v, 0 * u + 0.3), "shelf")
    lows = [
        replace(mesh, uvs=(values_at_corners(mesh.uvs[0].at_corners() * np.float32(size) + np.float32(at)),))
        for mesh, size, at in ((floor, 0.78, 0), (shelf, 0.19, 0.8))
    ]
    highs = [
        ribbed("floor top", 0.002),
        moved(ribbed("shelf top", 0.302, across=1), (0, 0, 0), (0.4, 0.4, 1)),
    ]
    low, high = merge(lows, "low"), merge(highs, "high")
    own = Reach(unit="scene", outward=0.4, inward=0.1)

    def other(mends):
        made = baked(low, high, ["normal"], size=128, reach_of_all=own, mends=mends)
        return [s.flaw for s in made.flaws().shown if s.flaw.cause == "other"]

    (flaw,) = other([])
    words = [
        "Make floor a pair of its own",
        "Leave out shelf top here",
        "Place a pocket",
        "Take the nearest surface here",
    ]
    assert [mend.words.split(":")[0] for mend in flaw.mends] == words
    for mend in flaw.mends:
        assert other([mend]) == [], mend.words


def test_a_high_that_is_left_out_here_is_passed_through():
    low, high = plates(0.3)
    own = Reach(unit="scene", outward=0.4, inward=0.1)
    ball = Omission(part="high/over top", centre=(0.5, 0.5, 0), radius=0.25)
    result = baked(low, high, ["normal"], size=96, reach_of_all=own, omissions=[ball])
    y, x = np.nonzero(result.cast.struck)
    place = points_of(result.sheets[0].context)[y, x]
    under = result.assembly.low.objects[result.low.triangles[result.cast.low_triangle[y, x]]] == 0
    inside = np.hypot(place[:, 0] - 0.5, place[:, 1] - 0.5) < 0.24
    assert place[under & inside, 2] == pytest.approx(0.002, abs=1e-5)
    assert place[under & (np.hypot(place[:, 0] - 0.5, place[:, 1] - 0.5) > 0.27), 2] == pytest.approx(0.302, abs=1e-5)


def test_what_is_left_out_is_so_at_the_pointer_too():
    low, high = plates(0.3)
    own = Reach(unit="scene", outward=0.4, inward=0.1)
    ball = Omission(part="high/over top", centre=(0.5, 0.5, 0), radius=0.25)
    for omissions, height in (([], 0.302), ([ball], 0.002)):
        made = baked(low, high, ["normal"], size=64, reach_of_all=own, omissions=omissions)
        sheet = made.sheets[0]
        assert probe(sheet.low, sheet.context.rays, made.sculpt, 16, 48).height == pytest.approx(height, abs=1e-4)
