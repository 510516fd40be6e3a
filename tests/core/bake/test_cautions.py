"""What a bake says of its own limits."""

import pytest

from inkwell_cast.core.bake.cautions import notes_on
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.maps import Height
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import torus


def notes(depth=16, samples=4, adaptive=True, **more):
    recipe = Recipe(
        sheet=Sheet(width=48, height=48, samples=samples, adaptive=adaptive),
        output=Output(maps=["normal", "height"], depth=depth),
        **more,
    )
    return notes_on(bake(recipe, BakeMeshes([torus(24, 12)], [torus(96, 48, small=0.72, name="high")])))


def test_there_is_nothing_to_say_of_sixteen_bits_that_hold_everything():
    assert notes() == []


def test_values_beyond_a_range_are_said_with_their_share():
    assert "of the texels lie beyond its range" in notes(height=Height(range=0.01))[0]
    assert notes(height=Height(range=5.0)) == []


def test_eight_bits_have_no_middle():
    assert "mid-grey is 128 of 255" in notes(depth=8)[0]


@pytest.mark.parametrize(("adaptive", "said"), [(True, 1), (False, 0)])
def test_samples_that_were_left_out_are_said(adaptive, said):
    found = notes(samples=16, adaptive=adaptive)
    assert len(found) == said
    assert all("by 4 samples" in words for words in found)
