"""Settings by level: the piece's, changed for a pair, changed for an object. The most specific one wins.

A scope speaks of one of these, or of several at once: then it is their scopes, a line each.
"""

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from .recipe import Recipe

FIELDS = ("outward", "inward", "directions", "mode", "angle")


@dataclass(frozen=True, slots=True)
class Value:
    """A value in force and the scope that gives it: "piece", "pair:NAME" or "object:FILE/OBJECT".

    Where several have values of their own, value is the largest number or the first word, and differs tells them all.
    """

    value: Any
    scope: str
    differs: str = ""


def pair_scope(name: str) -> str:
    return f"pair:{name.lower()}"


def object_scope(key: str) -> str:
    return f"object:{key}"


def together(several: Iterable[str]) -> str:
    """One scope that speaks of several at once."""
    return "\n".join(several)


def each_of(scope: str) -> list[str]:
    """The scopes that a scope speaks of: itself, or all that were put `together`."""
    return scope.split("\n")


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


def in_force_of_all(recipe: Recipe, chains: list[list[str]]) -> dict[str, Value]:
    """Every setting of a level as seen from several chains at once (see `in_force`); scope is "" where they differ."""
    seen = [in_force(recipe, chain) for chain in chains]
    return {name: _joined([(own[name], chain[0]) for own, chain in zip(seen, chains, strict=True)]) for name in seen[0]}


def _joined(values: list[tuple[Value, str]]) -> Value:
    """One value for all, each given with the scope that it was asked for; `together` where each has it set itself."""
    given = [own.value for own, _ in values]
    itself = all(own.scope == asked for own, asked in values)
    came = {own.scope for own, _ in values}
    scope = together(asked for _, asked in values) if itself else came.pop() if len(came) == 1 else ""
    if all(value == given[0] for value in given):
        return Value(given[0], scope)
    if isinstance(given[0], str):
        return Value(given[0], scope, " or ".join(dict.fromkeys(given)))
    return Value(max(given), scope, f"{min(given):g} to {max(given):g}")
