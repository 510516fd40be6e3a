"""Two changes that were made to the same settings without knowing of each other, joined where they do not collide."""

from typing import Any

from .recipe import Recipe

_ABSENT = object()


def merged(base: Recipe, mine: Recipe, theirs: Recipe) -> tuple[Recipe, list[str], list[str]]:
    """`theirs` with what `mine` changed of `base`.

    Gives the joined recipe, the settings that both changed differently (those stay as `theirs` has them), and those
    that only the other one changed, as dotted names. A list is one setting: its items have no names.
    """
    collisions, others = list[str](), list[str]()
    given = _join(base.model_dump(), mine.model_dump(), theirs.model_dump(), "", collisions, others)
    return Recipe.model_validate(given), collisions, others


def _join(base: Any, mine: Any, theirs: Any, name: str, collisions: list[str], others: list[str]) -> Any:
    if mine == theirs:
        return theirs
    if theirs == base:
        return mine
    if not all(isinstance(value, dict) for value in (base, mine, theirs)):
        (others if mine == base else collisions).append(name)
        return theirs
    joined = {}
    for key in [*theirs, *(key for key in mine if key not in theirs)]:
        one, two, three = (values.get(key, _ABSENT) for values in (base, mine, theirs))
        value = _join(one, two, three, f"{name}.{key}" if name else key, collisions, others)
        if value is not _ABSENT:
            joined[key] = value
    return joined
