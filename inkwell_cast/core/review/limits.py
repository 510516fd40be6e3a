"""Limits on how a bake may be seen: parsed from words, such as “mean 5, over30 1 %, missed 0”."""

import re

from ..base.errors import InputProblem
from .as_seen import AsSeen

SHARES = ("over5", "over15", "over30", "outline", "inside", "missed")  # in words in percent
DEGREES = ("mean", "p95", "excess")
_LIMIT = re.compile(r"(\w+)\s+(\d+(?:\.\d+)?)\s*([%°]?)")


def limits_of(words: str, given_by: str = "--limit") -> dict[str, float]:
    """Limits by name, degrees or shares from 0 to 1. Raises InputProblem that says which word is none and what is."""
    limits = {}
    for part in filter(None, (part.strip() for part in words.split(","))):
        match = _LIMIT.fullmatch(part)
        name, number, unit = match.groups() if match else ("", "", "")
        if name not in SHARES + DEGREES or unit == ("°" if name in SHARES else "%"):
            raise InputProblem(
                given_by, f"“{part}” is no limit.",
                f"Give names and numbers with commas between: {', '.join(DEGREES)} in degrees, {', '.join(SHARES)} in "
                "percent, such as mean 5, over30 1 %, missed 0.",
            )  # fmt: skip
        limits[name] = float(number) / 100 if name in SHARES else float(number)
    if not limits:
        raise InputProblem(given_by, "It names no limit.", "Give one, such as mean 5.")
    return limits


def beyond(limits: dict[str, float], seen: AsSeen, excess: float, missed: float) -> list[str]:
    """A sentence for each limit that is passed; missed is a share of the covered texels."""
    found = {
        "mean": seen.mean, "p95": seen.p95, "over5": seen.over_5, "over15": seen.over_15, "over30": seen.over_30,
        "outline": seen.outline, "inside": seen.inside, "excess": excess, "missed": missed,
    }  # fmt: skip
    return [
        f"{name} is {_words(name, found[name])}, beyond {_words(name, most)}"
        for name, most in limits.items()
        if found[name] > most
    ]


def _words(name: str, value: float) -> str:
    return f"{value:.2%}" if name in SHARES else f"{value:.2f}°"
