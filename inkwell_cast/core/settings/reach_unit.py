"""The unit of the reach, switched so that nothing changes: every length that is in it is converted with it."""

from typing import Any

from ..base.figures import figure
from ..base.setting import Unit, scene_units
from .recipe import Recipe

FIGURES = 6  # of a converted length
REACH = ("outward", "inward")


def with_reach_unit(recipe: Recipe, unit: Unit, diagonal: float) -> Recipe:
    """A recipe with its reaches in another unit, the same lengths for a low of that diagonal (scene units).

    In the unit of the reach are the reach of the piece and of its levels, pockets with their radius, patches, and all
    of those in mends.
    """
    if unit == recipe.reach.unit or not diagonal > 0:
        return recipe
    factor = scene_units(recipe.reach.unit, diagonal) / scene_units(unit, diagonal)
    given = recipe.model_dump()
    given["reach"]["unit"] = unit
    _convert(given["reach"], REACH, factor)
    for owner in (given, *given["mends"]):
        for level in owner["levels"].values():
            _convert(level, REACH, factor)
        for pocket in owner["pockets"]:
            _convert(pocket, (*REACH, "radius"), factor)
        for patch in owner["patches"]:
            _convert(patch, REACH, factor)
    return Recipe.model_validate(given)


def _convert(group: dict[str, Any], names: tuple[str, ...], factor: float) -> None:
    for name in names:
        if group[name] is not None:
            group[name] = float(f"{group[name] * factor:.{FIGURES}g}")


def in_other_unit(value: float, unit: Unit, diagonal: float) -> str:
    """A length in words in the unit that it is not given in: "= 0.034 units" or "= 1.4 %"."""
    if not diagonal > 0:
        return ""
    if unit == "percent":
        return f"= {figure(value * diagonal / 100)} units"
    return f"= {figure(100 * value / diagonal)} % of the low"
