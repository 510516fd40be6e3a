"""Settings of one piece taken over by another."""

import pytest

from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.settings import editing
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.pairing import Pairing, Placing
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.core.settings.taking import KINDS, STAYS, WORDS, taken_from

OTHER = editing.set_scope(
    Recipe(
        reach=Reach(outward=7),
        sheet=Sheet(width=256, height=128),
        output=Output(maps=["normal", "height"]),
        pairing=Pairing(low="_game", placed={"theirs/x": Placing(role="low")}, level="2"),
    ),
    "pair:lid",
    {"outward": 3.0},
)


def test_every_setting_is_of_one_kind_or_stays_with_its_piece():
    assert sorted([*STAYS, *(name for names in KINDS.values() for name in names)]) == sorted(Recipe.model_fields)
    assert list(KINDS) == list(WORDS)


def test_kinds_are_taken_and_all_else_stays():
    own = Recipe(reach=Reach(outward=2), pairing=Pairing(placed={"mine/y": Placing(role="high")}))
    own = editing.set_scope(own, "pair:box", {"inward": 1.0})
    cage = taken_from(own, OTHER, ["cage"])
    assert cage.reach.outward == 7
    assert set(cage.levels) == {"pair:box", "pair:lid"}
    assert (cage.sheet, cage.output) == (own.sheet, own.output)
    usual = taken_from(own, OTHER)
    assert (usual.sheet.width, usual.output.maps) == (256, ["normal", "height"])
    assert (usual.pairing.low, usual.pairing.placed, usual.pairing.level) == ("_game", own.pairing.placed, "")


def test_places_keep_their_lengths_or_are_refused():
    pocketed = editing.add_pocket(OTHER, (1.0, 2.0, 3.0))
    scene = Recipe(reach=Reach(unit="scene", outward=1))
    assert taken_from(Recipe(), pocketed, ["places"]).pockets == pocketed.pockets
    assert taken_from(Recipe(), pocketed).pockets == []
    with pytest.raises(InputProblem, match="Take the cage with them"):
        taken_from(scene, pocketed, ["places"])
    assert taken_from(scene, pocketed, ["cage", "places"]).pockets == pocketed.pockets
    with pytest.raises(InputProblem, match="no settings of the kind “colour”"):
        taken_from(Recipe(), OTHER, ["colour"])
    with pytest.raises(InputProblem, match="No kind"):
        taken_from(Recipe(), OTHER, [])
