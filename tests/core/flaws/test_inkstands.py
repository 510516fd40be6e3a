"""The flaws of the demo inkstands: the clean one has none, the troubled one those that were made in it."""

import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.demo import inkstand, troubled


@pytest.fixture(scope="module")
def troubled_bake():
    recipe = Recipe(reach=Reach(unit="scene", outward=2.5, inward=2), sheet=Sheet(width=1024, height=1024, samples=4))
    return bake(recipe, BakeMeshes([], [], [*troubled.build()]))


CAUSES = {
    "pairs": "alone",
    "faceted": "faceted",
    "winding": "back",
    "hard_edges": "hard_edge",
    "overlaps": "overlap",
    "stray": "outside",
}


@pytest.mark.deep
def test_every_trouble_of_the_troubled_inkstand_that_shows_is_a_flaw_with_its_cause(troubled_bake):
    """The others, such as a hole in a bottom that no ray comes near, are told by the checks alone."""
    shown = troubled_bake.flaws().shown
    causes = {(s.flaw.cause, s.flaw.part.rpartition("/")[2]) for s in shown}
    for check, part, words in troubled.TROUBLES:
        names = {part, part.replace("_high", "_low"), "hinge_right_low"}
        assert check not in CAUSES or any((CAUSES[check], name) in causes for name in names), words
    assert len(shown) == len(CAUSES)


@pytest.mark.deep
def test_the_mends_of_the_troubled_inkstand_take_away_what_settings_can_cure(troubled_bake):
    shown = [s.flaw for s in troubled_bake.flaws().shown]
    curable = [flaw for flaw in shown if flaw.mends]
    recipe = troubled_bake.recipe.model_copy(update={"mends": [flaw.mends[0] for flaw in curable]})
    again = bake(recipe, BakeMeshes([], [], [*troubled.build()]))
    left = [s.flaw for s in again.flaws().shown]
    assert len([flaw for flaw in left if flaw.mends]) <= len(curable) / 10
    assert {flaw.cause for flaw in shown if not flaw.mends} == {"overlap"}


def test_the_clean_inkstand_has_no_flaw():
    recipe = Recipe(reach=Reach(unit="scene", outward=2.5, inward=2), sheet=Sheet(width=512, height=512, samples=4))
    made = bake(recipe, BakeMeshes([], [], [*inkstand.build()]))
    assert made.flaws().shown == []
