"""Settings of one piece taken over by another: kind by kind, what lies in the meshes themselves left out."""

from collections.abc import Sequence

from ..base.errors import InputProblem
from .map_names import MAPS
from .recipe import Recipe

KINDS: dict[str, tuple[str, ...]] = {
    "cage": ("reach", "world", "normals", "subdivision", "levels"),
    "names": ("pairing",),
    "sheets": ("sheet", "sizes"),
    "basis": ("basis",),
    "maps": ("output", *(name for name in Recipe.model_fields if name in MAPS), "carried_panorama", "library"),
    "handoff": ("handoff", "limits"),
    "places": ("pockets", "nudges", "omissions", "creases", "patches", "heals", "accepted", "mends"),
}
WORDS: dict[str, str] = {
    "cage": "Reach, directions and normals, also of single parts by their names",
    "names": "How names are read",
    "sheets": "Sizes of sheets, samples and padding",
    "basis": "Basis",
    "maps": "Maps and their settings",
    "handoff": "Handoff and limits",
    "places": "What was done by hand: pockets, strokes and mends, where they lie in space",
}
USUAL = tuple(kind for kind in KINDS if kind != "places")  # what serves another mesh too
STAYS = ("files", "straight_picture")  # these speak of a piece's own files and UVs


def taken_from(recipe: Recipe, other: Recipe, kinds: Sequence[str] = USUAL) -> Recipe:
    """A recipe with settings of `kinds` (of `KINDS`) as another has them; those of parts are laid over its own by name.

    Raises InputProblem for a kind that there is not, for none, and for places whose lengths would change their unit.
    """
    unknown = [kind for kind in kinds if kind not in KINDS]
    if unknown or not kinds:
        named = f"There are no settings of the kind “{unknown[0]}”." if unknown else "No kind of settings was chosen."
        raise InputProblem("Settings of another piece", named, f"Choose from {', '.join(KINDS)}.")
    if "places" in kinds and "cage" not in kinds and recipe.reach.unit != other.reach.unit:
        units = f"The other piece's reach is in {_word(other)}, this one's in {_word(recipe)}; pockets would change."
        raise InputProblem("Places", units, "Take the cage with them, or set both to one unit.")
    changed = {name: getattr(other, name) for kind in kinds for name in KINDS[kind]}
    if "cage" in kinds:
        changed["levels"] = recipe.levels | other.levels
    if "names" in kinds:  # where single parts were put, and which level of detail this is, stays
        own = {"placed": recipe.pairing.placed, "level": recipe.pairing.level}
        changed["pairing"] = other.pairing.model_copy(update=own)
    return recipe.model_copy(update=changed)


def _word(recipe: Recipe) -> str:
    return "per cent of the low" if recipe.reach.unit == "percent" else "scene units"
