"""Settings by level: the piece's, changed for a pair, changed for an object. The most specific one wins."""

from dataclasses import dataclass
from typing import Any

from .recipe import Recipe

FIELDS = ("outward", "inward", "directions", "mode", "angle")


@dataclass(frozen=True, slots=True)
class Value:
    """A value in force and the scope that gives it: "piece", "pair:NAME" or "object:FILE/OBJECT"."""

    value: Any
    scope: str


def pair_scope(name: str) -> str:
    return f"pair:{name.lower()}"


def object_scope(key: str) -> str:
    return f"object:{key}"


def scopes(pair: str = "", part: str = "") -> list[str]:
    """The scopes that speak for a part of a pair, the most specific one first."""
    return ([object_scope(part)] if part else []) + ([pair_scope(pair)] if pair else []) + ["piece"]


def in_force(recipe: Recipe, chain: list[str]) -> dict[str, Value]:
    """Every setting of a level as seen from `chain` (see `scopes`)."""
    piece = {
        "outward": recipe.reach.outward,
        "inward": recipe.reach.inward,
        "directions": recipe.reach.directions,
        "mode": recipe.normals.mode,
        "angle": recipe.normals.angle,
    }
    values = {}
    for name in FIELDS:
        for scope in chain:
            value = piece[name] if scope == "piece" else getattr(recipe.levels.get(scope), name, None)
            if value is not None:
                values[name] = Value(value, scope)
                break
    return values
