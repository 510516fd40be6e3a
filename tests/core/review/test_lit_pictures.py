"""Pictures from four sides: what a ball, a map that fits and a map that does not look like."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.review import lit_pictures
from inkwell_cast.core.review.likeness import GROUND, MISSED, OFF, TOP, difference
from inkwell_cast.core.review.lit_pictures import SIDE, SIDES, lit_low, lit_sculpt, seen_at
from inkwell_cast.core.review.worn_pictures import Pictures
from inkwell_cast.core.settings.recipe import Recipe

from ...shapes import grid_mesh, torus
from ..bakes import baked


def ball(name, size=1.0):
    def point(u, v):
        a, b = 2 * np.pi * np.where(u == 1, 0, u), np.pi * (v - 0.5)
        return size * np.cos(b) * np.cos(a), -size * np.cos(b) * np.sin(a), size * np.sin(b)

    return grid_mesh(96, 48, point, name)


@pytest.fixture(scope="module")
def ring():
    """A coarse ring below a wavy one, baked well."""

    def wavy(u, v):
        a, b = 2 * np.pi * u, 2 * np.pi * v
        small = 0.7 + 0.03 * np.sin(12 * a) * np.cos(4 * b)
        return (2 + small * np.cos(b)) * np.cos(a), (2 + small * np.cos(b)) * np.sin(a), small * np.sin(b)

    return baked(torus(32, 16), replace(grid_mesh(240, 80, wavy, "high"), uvs=()), ["normal"], size=256, samples=4)


def contexts(made):
    return [sheet.context for sheet in made.sheets]


def test_a_ball_is_a_lit_disc_from_every_side_before_anything_is_baked():
    warm = Warm()
    assembly = assemble(Recipe(), BakeMeshes([ball("low")], [replace(ball("high"), uvs=())]), warm)
    strip = lit_sculpt(assembly, warm.sculpt(assembly), warm)
    assert strip.shape == (SIDE, SIDES * SIDE, 4)
    inside = (np.hypot(*(np.indices((SIDE, SIDE)) - (SIDE - 1) / 2)) < SIDE / 2 / 1.06)[None]
    alpha = np.stack(np.split(strip[..., 3], SIDES, axis=1)) > 127
    assert (alpha == inside).mean() > 0.99
    bright = strip[..., :3].mean(axis=2)
    for n in range(SIDES):  # the light comes from the upper left of every picture
        picture = bright[:, n * SIDE : (n + 1) * SIDE]
        assert picture[SIDE // 4, SIDE // 3] > 1.5 * picture[SIDE * 3 // 4, SIDE * 2 // 3]


def test_what_lies_to_the_right_is_drawn_to_the_right():
    """A small ball at +x of a large one, seen from the front."""
    warm, small = Warm(), ball("small", 0.3)
    small = replace(small, positions=small.positions + np.array([3, 0, 0], np.float32), uvs=())
    high = merge([replace(ball("high"), uvs=()), small], "high")
    assembly = assemble(Recipe(), BakeMeshes([ball("low")], [high]), warm)
    alpha = lit_sculpt(assembly, warm.sculpt(assembly), warm)[:, :SIDE, 3] > 127
    left, right = alpha[:, : SIDE // 2].sum(), alpha[:, SIDE // 2 :].sum()
    assert left > 1.5 * right  # the large one


def test_a_low_looks_like_its_sculpt_with_its_map_and_not_without(ring):
    sculpt = lit_sculpt(ring.assembly, ring.sculpt, ring.warm).astype(float)
    (good,) = lit_low(contexts(ring), Pictures([ring.images["normal"]]))
    (smooth,) = lit_low(contexts(ring), None)
    good, smooth = good.astype(float), smooth.astype(float)
    both = (sculpt[..., 3] == 255) & (good[..., 3] == 255)
    off = [np.abs(each - sculpt)[both][:, :3].mean() for each in (good, smooth)]
    assert off[0] < 3 < 6 < off[1]


def test_heat_is_pale_where_it_fits_and_dark_where_it_does_not(ring):
    angles = np.zeros(ring.cast.covered.shape, np.float32)
    pale, dark = (lit_low(contexts(ring), None, [each])[1] for each in (angles, angles + 60))
    on = pale[..., 3] == 255
    assert pale[on][:, :3].mean() > 2.5 * dark[on][:, :3].mean()


def test_a_place_is_marked_where_it_is_drawn_and_not_where_something_hides_it(ring):
    """The ring's outermost point at +x is before all else in one picture, behind the ring in the one from behind."""
    outer, inner = [2.7, 0.0, 0.0, 0.2], [0.0, 0.0, 0.0, 0.2]  # nothing of the low is at the second
    marks, (no_place,) = seen_at(contexts(ring), np.array([outer])), seen_at(contexts(ring), np.array([inner]))
    assert no_place == []
    assert 1 <= len(marks[0]) < SIDES
    strip = lit_low(contexts(ring), None)[0]
    view = lit_pictures._views(ring.assembly, ring.sculpt, ring.warm)
    for x, y, radius in marks[0]:
        assert strip[int(y), int(x) - 1, 3] > 0 or strip[int(y), int(x) + 1, 3] > 0
        n = int(x // SIDE)
        across = (np.array(outer[:3]) - view[n, :3]) @ view[n, 3:6]
        assert abs((x - n * SIDE) - (1 + across / view[n, 12]) * SIDE / 2) < 0.1
        assert abs(radius - 0.2 / view[n, 12] * SIDE / 2) < 0.1
    assert all((np.array(outer[:3]) @ view[int(x // SIDE), 9:12]) > 0 for x, _, _ in marks[0])  # on the viewer's side


def test_better_and_worse_are_told_by_colour_and_a_place_that_came_back_is_better():
    step = TOP / 180
    before = np.array([[10 * step, 1 * step, MISSED, 5 * step, OFF]], np.uint16)
    now = np.array([[1 * step, 10 * step, 1 * step, 5 * step, OFF]], np.uint16)
    better, worse, back, same, off = difference(before, now)[0].astype(int)
    assert better[1] > better[0] + 40  # green
    assert worse[0] > worse[1] + 40  # red
    assert back.sum() < better.sum()  # by more
    assert same.min() > 220
    np.testing.assert_array_equal(off, GROUND)
