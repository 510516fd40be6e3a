"""Settings of several pairs or objects at once."""

import pytest
from pydantic import ValidationError

from inkwell_cast.core.settings import editing
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.scopes import each_of, in_force, in_force_of_all, scopes, together

A, B, BOTH = "pair:a", "pair:b", together(["pair:a", "pair:b"])
CHAINS = [scopes("a"), scopes("b")]


def test_a_scope_of_several_is_all_of_them():
    assert each_of(BOTH) == [A, B]
    assert each_of("piece") == ["piece"]
    recipe = editing.set_scope(Recipe(), BOTH, {"outward": 3.0})
    assert {scope: level.outward for scope, level in recipe.levels.items()} == {A: 3, B: 3}
    assert editing.set_scope(recipe, BOTH, {"outward": None}).levels == {}
    assert editing.with_reach(Recipe(), BOTH, {"inward": 0.5}).levels[B].inward == 0.5
    with pytest.raises(ValidationError):
        editing.set_scope(recipe, BOTH, {"outward": -1})


def test_what_several_have_in_common_and_where_they_differ():
    recipe = Recipe(reach=Reach(outward=1, inward=2))
    alike = in_force_of_all(recipe, CHAINS)["outward"]
    assert (alike.value, alike.scope, alike.differs) == (1, "piece", "")
    recipe = editing.set_scope(recipe, B, {"outward": 4.0, "mode": "smooth"})
    apart = in_force_of_all(recipe, CHAINS)
    assert (apart["outward"].value, apart["outward"].scope, apart["outward"].differs) == (4, "", "1 to 4")
    assert apart["mode"].differs == "keep or smooth"
    both = in_force_of_all(editing.set_scope(recipe, BOTH, {"outward": 2.0}), CHAINS)["outward"]
    assert (both.value, both.scope, both.differs) == (2, BOTH, "")
    assert in_force_of_all(recipe, CHAINS[:1]) == in_force(recipe, CHAINS[0])
