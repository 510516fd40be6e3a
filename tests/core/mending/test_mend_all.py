"""Mend all: what helps is kept, what does not is taken back and the next choice tried, and nothing else gets worse."""

from dataclasses import replace

import pytest

from inkwell_cast.core.flaws import flaws_of
from inkwell_cast.core.mending import mend_all as module
from inkwell_cast.core.mending.mend_all import mend_all
from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.mends import Mend
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.overrides import Level
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import plane
from ..flaws.test_flaws import frame, island

RECIPE = Recipe(
    reach=Reach(unit="scene", outward=0.05, inward=0.05), sheet=Sheet(width=96, height=96, samples=1),
    output=Output(maps=["normal"], depth=16),
)  # fmt: skip
NOTHING = Mend(name="nothing", words="Do nothing")
BLIND = Mend(name="blind", words="See nothing", levels={"object:plane/plane": Level(outward=0, inward=0)})


@pytest.fixture
def meshes():
    """A plane whose middle stands out of reach."""
    return BakeMeshes([plane()], [merge([frame(), replace(island(0.2), uvs=())], "high")])


def offering(first):
    """The flaws as they are found, with another mend before their own."""

    def more(flaw):
        return flaw.model_copy(update={"mends": [first, *flaw.mends]}) if flaw.mends else flaw

    def found(*arguments):
        return [replace(own, flaw=more(own.flaw)) for own in flaws_of(*arguments)]

    return found


def test_a_mend_that_helps_is_kept_and_told_of(meshes):
    told = []
    done = mend_all(RECIPE, meshes, lambda stage, share: told.append(share))
    (tried,) = done.report.tried
    assert (tried.kept, tried.after) == (True, 0)
    assert done.report.flaws == (3, 2)  # both parts of the sculpt are open, which is told of and stays
    assert all(words.startswith("Open sculpt") for words in done.report.left)
    assert done.report.likeness[1] < 0.1 < done.report.likeness[0]
    assert done.bake.cast.missed == 0
    assert len(done.recipe.mends) == 1
    assert told == sorted(told)
    assert told[-1] == 1


@pytest.mark.parametrize("first", [NOTHING, BLIND])
def test_one_that_does_no_good_or_harm_is_taken_back_and_the_next_is_tried(meshes, monkeypatch, first):
    monkeypatch.setattr(module, "flaws_of", offering(first))
    done = mend_all(RECIPE, meshes)
    assert [(tried.words[:10], tried.kept) for tried in done.report.tried] == [
        (first.words[:10], False), ("Place a po", True),
    ]  # fmt: skip
    assert [mend.name for mend in done.recipe.mends] == ["Sculpt outside the cage, plane"]
    assert done.bake.cast.missed == 0


def test_what_has_no_mend_is_left_with_its_remedy():
    sides = BakeMeshes([plane()], [plane(4, 0.01)])
    done = mend_all(RECIPE, sides)
    assert (done.report.tried, done.report.flaws) == ([], (1, 1))
    assert "Open sculpt" in done.report.left[0]
