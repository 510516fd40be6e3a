import pytest

from inkwell_cast.core.settings.changes_in_words import in_words
from inkwell_cast.core.settings.editing import add_pocket, set_scope
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

PLAIN = Recipe()


@pytest.mark.parametrize(
    ("after", "words"),
    [
        (Recipe(reach=Reach(outward=3.1)), "Outward 1.5 → 3.1"),
        (Recipe(reach=Reach(outward=3.1, inward=2)), "Outward 1.5 → 3.1 and 1 more"),
        (Recipe(reach=Reach(straighten=True)), "Straighten flat faces off → on"),
        (Recipe(sheet=Sheet(samples=64)), f"{Sheet.model_fields['samples'].title} {PLAIN.sheet.samples} → 64"),
        (Recipe(output=Output(maps=[*PLAIN.output.maps, "occlusion"])), "Add the map occlusion"),
        (set_scope(PLAIN, "pair:lid", {"outward": 2.0}), "Outward of lid inherited → 2"),
        (add_pocket(PLAIN, (0.0, 0.0, 0.0)), ""),
        (PLAIN, ""),
    ],
)
def test_a_change_is_called_by_what_it_changed(after, words):
    assert in_words(PLAIN, after) == words


def test_taking_a_change_back_says_the_opposite():
    assert in_words(Recipe(reach=Reach(outward=3.1)), PLAIN) == "Outward 3.1 → 1.5"
