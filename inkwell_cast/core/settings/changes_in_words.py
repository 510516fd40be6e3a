"""What a change of settings changed, in words for undoing it: "Outward 2.5 → 3.1"."""

from typing import Any

from .recipe import Recipe

MOST = 40  # characters of a value
SAID_ELSEWHERE = (
    "pockets",
    "nudges",
    "creases",
    "omissions",
    "patches",
    "heals",
    "accepted",
    "mends",
    "files",
    "straight_picture",
    "carried_panorama",
)


def in_words(before: Recipe, after: Recipe) -> str:
    """The change of one field with both values, or the first of several and how many more.

    "" for changes of lists and files: what makes those knows better what to call them.
    """
    if any(getattr(before, group) != getattr(after, group) for group in SAID_ELSEWHERE):
        return ""
    changes = every_change(before, after)
    if not changes:
        return ""
    return changes[0] + (f" and {len(changes) - 1} more" if len(changes) > 1 else "")


def every_change(before: Recipe, after: Recipe) -> list[str]:
    """The change of each field with both values; of lists and files that they differ."""
    changes = list[str]()
    for group in Recipe.model_fields:
        one, two = getattr(before, group), getattr(after, group)
        if one == two:
            continue
        if group in SAID_ELSEWHERE:
            changes.append(group.replace("_", " ").capitalize())
        else:
            changes += _levels(one, two) if group == "levels" else _fields(one, two)
    return changes


def _fields(one: Any, two: Any) -> list[str]:
    """Every field of a group that differs; sizes and such, which are no groups, by what they are called."""
    if not hasattr(type(one), "model_fields"):
        return ["Sizes of sheets"]
    changes = []
    for name, field in type(one).model_fields.items():
        old, new = getattr(one, name), getattr(two, name)
        if old == new:
            continue
        title = field.title or name.replace("_", " ").capitalize()
        changes += _maps(old, new) if name == "maps" else [f"{title} {_said(old)} → {_said(new)}".strip()]
    return changes


def _levels(one: dict[str, Any], two: dict[str, Any]) -> list[str]:
    changes = []
    for scope in dict.fromkeys([*one, *two]):
        old, new = one.get(scope), two.get(scope)
        given = old or new
        for name, field in type(given).model_fields.items() if given else ():
            was, now = getattr(old, name, None), getattr(new, name, None)
            if was != now:
                title = field.title or name.replace("_", " ").capitalize()
                changes.append(f"{title} of {scope.partition(':')[2]} {_said(was)} → {_said(now)}")
    return changes


def _maps(old: list[str], new: list[str]) -> list[str]:
    added, gone = [key for key in new if key not in old], [key for key in old if key not in new]
    words = [f"Add the map {key.replace('_', ' ')}" for key in added]
    return words + [f"Leave out the map {key.replace('_', ' ')}" for key in gone] or ["Order of maps"]


def _said(value: Any) -> str:
    """A value in short; nothing for what is more than one."""
    if value is None:
        return "inherited"
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, float):
        return f"{value:.4g}"
    return str(value)[:MOST] if isinstance(value, (int, str)) else ""
