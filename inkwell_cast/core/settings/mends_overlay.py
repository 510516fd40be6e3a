"""Mends: what cures a flaw, kept beside the other settings and laid over them when a piece is put together.

Each can be switched off and on and taken out without a trace, whatever else was set since.
"""

from pydantic import BaseModel

from .files import FileSettings, Fix
from .item_keys import find_item, item_keys
from .mends import Mend
from .pairing import Placing
from .recipe import Recipe

BUDGET = 2.0  # bakes of the recipe's own size that trials of mends may cost
WORTH = 0.05  # degrees of the mean: where what was not tried yet could win less, nobody would see it


class TriedMend(BaseModel):
    """A flaw, the mend that was tried, what a viewer would see of it before and after, and whether it was kept."""

    title: str
    part: str
    words: str
    before: float
    after: float
    kept: bool


class Report(BaseModel):
    """What mending all did, before and after: flaws, degrees that are to mend, and the mean angle as seen.

    tried are the mends; left are flaws without one, with their remedy in words. seen is None in bakes from before.
    """

    flaws: tuple[int, int]
    weight: tuple[float, float]
    seen: tuple[float, float] | None = None
    tried: list[TriedMend]
    left: list[str]


def mended(recipe: Recipe) -> Recipe:
    """The recipe with every mend that is on laid over it, later ones over earlier ones, and none left in its list."""
    if not recipe.mends:
        return recipe
    on = [mend for mend in recipe.mends if mend.on]
    files, levels, placed = dict(recipe.files), dict(recipe.levels), dict(recipe.pairing.placed)
    for mend in on:
        for name, fixes in mend.fixes.items():
            settings = files.get(name, FileSettings())
            files[name] = settings.model_copy(update={"fixes": _joined(settings.fixes, fixes)})
        for scope, level in mend.levels.items():
            own_level = levels.get(scope)
            levels[scope] = own_level.model_copy(update=level.model_dump(exclude_none=True)) if own_level else level
        for key, place in mend.placed.items():
            before = placed.get(key, Placing())
            placed[key] = Placing(pair=place.pair or before.pair, role=place.role or before.role)
    occluders = [mend.occluders for mend in on if mend.occluders]
    reach = {"straighten": True} if any(mend.straighten for mend in on) else {}
    together = recipe.pairing.together or any(mend.together for mend in on)
    return recipe.model_copy(
        update={
            "files": files,
            "levels": levels,
            "mends": [],
            "reach": recipe.reach.model_copy(update=reach),
            "pairing": recipe.pairing.model_copy(update={"placed": placed, "together": together}),
            "pockets": [*recipe.pockets, *(pocket for mend in on for pocket in mend.pockets)],
            "nudges": [*recipe.nudges, *(stroke for mend in on for stroke in mend.nudges)],
            "patches": [*recipe.patches, *(patch for mend in on for patch in mend.patches)],
            "heals": [*recipe.heals, *(heal for mend in on for heal in mend.heals)],
            "creases": [*recipe.creases, *(crease for mend in on for crease in mend.creases)],
            "omissions": [*recipe.omissions, *(omission for mend in on for omission in mend.omissions)],
            "occlusion": recipe.occlusion.model_copy(update={"occluders": occluders[-1]} if occluders else {}),
        }
    )


def _joined(fixes: list[Fix], more: list[Fix]) -> list[Fix]:
    """Fixes one after the other, none twice: turning the same faces over a second time would undo the first."""
    return [*fixes, *(fix for fix in more if fix not in fixes)]


def add_mend(recipe: Recipe, mend: Mend) -> Recipe:
    """The recipe with one more mend. One that does the same as a mend that is there is switched on instead."""
    (key,) = item_keys([mend])
    if key in item_keys(recipe.mends):
        return switched(recipe, key, True)
    return Recipe.model_validate(recipe.model_dump() | {"mends": [*recipe.mends, mend]})


def switched(recipe: Recipe, key: str, on: bool) -> Recipe:
    """The mend of a key of `item_keys`, on or off. Raises InputProblem where it is gone."""
    mends, number = list(recipe.mends), find_item(recipe.mends, key, "The mend")
    mends[number] = mends[number].model_copy(update={"on": on})
    return recipe.model_copy(update={"mends": mends})


def without_mend(recipe: Recipe, key: str) -> Recipe:
    """The recipe without the mend of a key. Raises InputProblem where it is gone."""
    mends = list(recipe.mends)
    mends.pop(find_item(mends, key, "The mend"))
    return recipe.model_copy(update={"mends": mends})
