"""Changes to a recipe that are more than one field: pairing by hand, levels, files, fixes. Each gives a new recipe."""

from typing import Any, TypeVar

from pydantic import BaseModel

from .files import FileSettings
from .handoff import Handoff, Pack, Well
from .item_keys import find_item
from .map_names import OF_LOWS_ALONE
from .pairing import Pair, Paired, Placing
from .reach import Reach
from .recipe import Recipe
from .regions import Pocket, Stroke
from .scope_settings import ScopeSettings
from .scopes import FIELDS, each_of

T = TypeVar("T", bound=BaseModel)
PACK = "The packed picture"


def place_part(recipe: Recipe, key: str, pair: str = "", role: str = "") -> Recipe:
    """Put an object into a pair, under a role, or both; empty words leave what is there."""
    placing = recipe.pairing.placed.get(key, Placing())
    place = Placing.model_validate({"pair": pair or placing.pair, "role": role or placing.role})
    return _placed(recipe, recipe.pairing.placed | {key: place})


def unplace_part(recipe: Recipe, key: str) -> Recipe:
    """Let an object go where its name says again."""
    return _placed(recipe, {k: p for k, p in recipe.pairing.placed.items() if k != key})


def _placed(recipe: Recipe, placed: dict[str, Placing]) -> Recipe:
    return recipe.model_copy(update={"pairing": recipe.pairing.model_copy(update={"placed": placed})})


def on_their_own(recipe: Recipe) -> Recipe:
    """Lows without a high are baked from themselves, with the maps that tell something then."""
    output = recipe.output.model_copy(update={"maps": list(OF_LOWS_ALONE)})
    pairing = recipe.pairing.model_copy(update={"alone": True})
    return recipe.model_copy(update={"output": output, "pairing": pairing})


def at_lod(recipe: Recipe, level: str) -> Recipe:
    """The recipe for one level of detail, or with "" for all."""
    return recipe.model_copy(update={"pairing": recipe.pairing.model_copy(update={"level": level})})


def rename_pair(recipe: Recipe, pair: Pair, name: str) -> Recipe:
    """Give a pair another name; its own settings go with it. The name of another pair joins the two."""
    placed = dict(recipe.pairing.placed)
    for _, part in pair.members:
        placed[part.key] = Placing(pair=name, role=placed.get(part.key, Placing()).role)
    levels = dict(recipe.levels)
    level = levels.pop(f"pair:{pair.name.lower()}", None)
    if level:
        levels.setdefault(f"pair:{name.lower()}", level)
    return _placed(recipe.model_copy(update={"levels": levels}), placed)


def split_pair(recipe: Recipe, paired: Paired, pair: Pair, keys: list[str]) -> Recipe:
    """Put some parts of a pair into a new pair, named after the first of them."""
    chosen = [part for _, part in pair.members if part.key in keys]
    if not chosen:
        return recipe
    taken, base, n = {p.name.lower() for p in paired.pairs}, chosen[0].name, 2
    name = base
    while name.lower() in taken:
        name, n = f"{base} {n}", n + 1
    placed = dict(recipe.pairing.placed)
    for part in chosen:
        placed[part.key] = Placing(pair=name, role=placed.get(part.key, Placing()).role)
    return _placed(recipe, placed)


def set_scope(recipe: Recipe, scope: str, values: dict[str, Any]) -> Recipe:
    """Change settings of pairs or objects (see `scopes.each_of`); None lets one be inherited again.

    Raises pydantic's error for a value that cannot be.
    """
    unknown = set(values) - set(FIELDS)
    if unknown:
        raise ValueError(f"set_scope: no such setting: {', '.join(sorted(unknown))}")
    levels = dict(recipe.levels)
    for own in each_of(scope):
        level = ScopeSettings.model_validate(levels.pop(own, ScopeSettings()).model_dump() | values)
        levels |= {} if level.empty else {own: level}
    return recipe.model_copy(update={"levels": levels})


def with_reach(recipe: Recipe, scope: str, reach: dict[str, float]) -> Recipe:
    """The recipe with an outward and inward reach, in the unit of the piece's, at a scope."""
    if not reach:
        return recipe
    if scope == "piece":
        tried = Reach.model_validate(recipe.reach.model_dump() | reach)
        return recipe.model_copy(update={"reach": tried})
    return set_scope(recipe, scope, reach)


def set_file(recipe: Recipe, name: str, **values: Any) -> Recipe:
    """Change how a file is taken. Raises pydantic's error for a value that cannot be."""
    settings = FileSettings.model_validate(recipe.file(name).model_dump() | values)
    files = {k: v for k, v in recipe.files.items() if k != name}
    return recipe.model_copy(update={"files": files if settings == FileSettings() else files | {name: settings}})


def without_fix(recipe: Recipe, name: str, key: str) -> Recipe:
    """Take back the fix of a key of `item_keys`. Raises InputProblem where it is gone."""
    fixes = _without(recipe.file(name).fixes, key, "The fix")
    return set_file(recipe, name, fixes=[fix.model_dump() for fix in fixes])


def add_pocket(recipe: Recipe, centre: tuple[float, float, float]) -> Recipe:
    """A pocket at a place of the low, wide enough to be seen, with twice the piece's outward reach."""
    names, n = {p.name for p in recipe.pockets}, len(recipe.pockets) + 1
    while f"Pocket {n}" in names:
        n += 1
    reach = recipe.reach
    radius = max(4 * reach.outward, 1e-6)
    pocket = Pocket(name=f"Pocket {n}", centre=centre, radius=radius, outward=2 * reach.outward, inward=reach.inward)
    return recipe.model_copy(update={"pockets": [*recipe.pockets, pocket]})


def set_pocket(recipe: Recipe, key: str, values: dict[str, Any]) -> Recipe:
    """Change the pocket of a key. Raises pydantic's error for a value that cannot be, InputProblem where it is gone."""
    pockets, number = list(recipe.pockets), find_item(recipe.pockets, key, "The pocket")
    pockets[number] = Pocket.model_validate(pockets[number].model_dump() | values)
    return recipe.model_copy(update={"pockets": pockets})


def without_pocket(recipe: Recipe, key: str) -> Recipe:
    """Take away the pocket of a key. Raises InputProblem where it is gone."""
    return recipe.model_copy(update={"pockets": _without(recipe.pockets, key, "The pocket")})


def _without(items: list[T], key: str, what: str) -> list[T]:
    number = find_item(items, key, what)
    return [*items[:number], *items[number + 1 :]]


def add_stroke(recipe: Recipe, stroke: Stroke) -> Recipe:
    """One more nudge. Raises pydantic's error for what cannot be, such as too many."""
    return Recipe.model_validate(recipe.model_dump() | {"nudges": [*recipe.nudges, stroke]})


def without_stroke(recipe: Recipe, key: str | None) -> Recipe:
    """Take back the nudge of a key, or all of them. Raises InputProblem where it is gone."""
    kept = [] if key is None else _without(recipe.nudges, key, "The nudge")
    return recipe.model_copy(update={"nudges": kept})


def add_pack(recipe: Recipe) -> Recipe:
    """One more packed picture, under a name of its own. Raises pydantic's error for too many."""
    names, n = {pack.name.casefold() for pack in recipe.handoff.packs}, 1
    while (name := "packed" if n == 1 else f"packed {n}") in names:
        n += 1
    return _with_packs(recipe, [*recipe.handoff.packs, Pack(name=name)])


def set_pack(recipe: Recipe, key: str, values: dict[str, Any]) -> Recipe:
    """Change the packed picture of a key. Raises pydantic's error for what cannot be, InputProblem where it is gone."""
    packs, number = list(recipe.handoff.packs), find_item(recipe.handoff.packs, key, PACK)
    packs[number] = Pack.model_validate(packs[number].model_dump() | values)
    return _with_packs(recipe, packs)


def set_well(recipe: Recipe, key: str, channel: str, values: dict[str, Any]) -> Recipe:
    """Change what one channel of a packed picture holds; an alpha channel is added when it gets something."""
    packs = recipe.handoff.packs
    well = packs[find_item(packs, key, PACK)].wells.get(channel, Well())
    return set_pack(recipe, key, {channel: well.model_dump() | values})


def without_pack(recipe: Recipe, key: str) -> Recipe:
    """Take away the packed picture of a key. Raises InputProblem where it is gone."""
    return _with_packs(recipe, _without(recipe.handoff.packs, key, PACK))


def _with_packs(recipe: Recipe, packs: list[Pack]) -> Recipe:
    handoff = Handoff.model_validate(recipe.handoff.model_dump() | {"packs": packs})
    return recipe.model_copy(update={"handoff": handoff})


def set_word(recipe: Recipe, key: str, word: str) -> Recipe:
    """What {map} stands for in the names of a map's files; "" lets it go by its own name. Raises pydantic's error."""
    words = {k: w for k, w in recipe.handoff.words.items() if k != key} | ({key: word} if word else {})
    handoff = Handoff.model_validate(recipe.handoff.model_dump() | {"words": words})
    return recipe.model_copy(update={"handoff": handoff})


def set_id_color(recipe: Recipe, name: str, color: str) -> Recipe:
    """A colour "#rrggbb" of the ID map, or the one that follows from the name. Raises pydantic's error."""
    colors = {n: c for n, c in recipe.ids.colors.items() if n != name} | ({name: color} if color else {})
    return Recipe.model_validate(recipe.model_dump() | {"ids": recipe.ids.model_dump() | {"colors": colors}})
