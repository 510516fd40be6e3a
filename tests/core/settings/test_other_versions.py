"""Settings of another version, and out of range: what is known is read, what is not is said."""

import pytest
from pydantic import ValidationError

from inkwell_cast.core.settings.other_versions import as_far_as_known
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.regions import Pocket


def test_what_is_known_of_a_newer_recipe_is_read():
    given = Recipe(pockets=[Pocket(centre=(1, 2, 3))]).model_dump(mode="json")
    given |= {"settle": {"limit": 0.5}}
    given["reach"] |= {"outward": 4.0, "shade": "soft"}
    given["sheet"] |= {"width": 99_999}
    given["pockets"][0] |= {"patch": 3}
    recipe, said = as_far_as_known(Recipe, given)
    assert (recipe.reach.outward, recipe.sheet.width, recipe.pockets[0].centre) == (
        4.0,
        Recipe().sheet.width,
        (1, 2, 3),
    )
    for name in ("settle", "reach.shade", "pockets.0.patch", "sheet.width 99999"):
        assert name in said
    assert given["sheet"]["width"] == 99_999  # what was given is left as it was


def test_a_recipe_of_this_version_has_nothing_to_say():
    assert as_far_as_known(Recipe, Recipe().model_dump(mode="json")) == (Recipe(), "")


def test_what_is_no_recipe_at_all_is_refused():
    with pytest.raises(ValidationError):
        as_far_as_known(Recipe, [1, 2])
