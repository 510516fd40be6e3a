from hypothesis import given
from hypothesis import strategies as st

from inkwell_cast.core.settings.merge_changes import merged
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.regions import Pocket
from inkwell_cast.core.settings.sheet import Sheet

WIDTHS = st.sampled_from([64, 128, 256])


def recipe(width=64, height=64, outward=1.5, **more):
    return Recipe(sheet=Sheet(width=width, height=height), reach=Reach(outward=outward), **more)


def test_changes_of_different_settings_are_joined():
    found, collisions, others = merged(recipe(), recipe(width=128), recipe(outward=3.0))
    assert found == recipe(width=128, outward=3.0)
    assert collisions == []
    assert others == ["reach.outward"]


def test_what_both_changed_stays_as_the_other_has_it_and_is_told():
    found, collisions, _ = merged(recipe(), recipe(width=128, height=32), recipe(width=256))
    assert found == recipe(width=256, height=32)
    assert collisions == ["sheet.width"]


def test_a_list_is_one_setting():
    one, two = Pocket(name="one"), Pocket(name="two")
    base = recipe(pockets=[one, two])
    found, collisions, _ = merged(base, recipe(pockets=[one]), recipe(pockets=[two]))
    assert found.pockets == [two]
    assert collisions == ["pockets"]


def test_entries_by_name_come_and_go():
    base = recipe(levels={"pair:a": {"outward": 1}, "pair:b": {"outward": 1}})
    mine = recipe(levels={"pair:b": {"outward": 1}, "pair:c": {"outward": 3}})
    theirs = recipe(levels={"pair:a": {"outward": 1}, "pair:b": {"outward": 2}})
    found, collisions, _ = merged(base, mine, theirs)
    assert {name: level.outward for name, level in found.levels.items()} == {"pair:b": 2, "pair:c": 3}
    assert collisions == []


@given(*[st.tuples(WIDTHS, WIDTHS)] * 3)
def test_whoever_changed_nothing_changes_nothing(base, mine, theirs):
    base, mine, theirs = (recipe(*size) for size in (base, mine, theirs))
    assert merged(base, base, theirs)[0] == theirs
    assert merged(base, mine, base)[0] == mine
    assert merged(base, mine, mine)[0] == mine
