"""Limits on how a bake may be seen: read from words, such as “mean 5, over30 1 %, missed 0”, and compared."""

import re
from typing import Annotated

from pydantic import field_validator

from ..base.errors import InputProblem
from ..base.setting import SettingsGroup, setting

SHARES = ("over5", "over15", "over30", "outline", "inside", "missed")  # in words in percent
DEGREES = ("mean", "p95", "excess")
_LIMIT = re.compile(r"(\w+)\s+(\d+(?:\.\d+)?)\s*([%°]?)")


class Limits(SettingsGroup):
    """What a bake of the piece may look like at worst."""

    words: Annotated[
        str,
        setting(
            "Limits",
            "What a bake may look like at worst, such as “mean 5, over30 1 %, missed 0”. One beyond is told: on the "
            "page, in the report and in batches. None by default.",
        ),
    ] = ""

    @field_validator("words")
    @classmethod
    def _readable(cls, words: str) -> str:
        try:
            limits_of(words)
        except InputProblem as problem:
            raise ValueError(f"{problem.what} {problem.remedy}".strip(".")) from None
        return words.strip()

    @property
    def by_name(self) -> dict[str, float]:
        """Limits by name, degrees or shares from 0 to 1."""
        return limits_of(self.words)


def limits_of(words: str, given_by: str = "--limit") -> dict[str, float]:
    """Limits by name, degrees or shares from 0 to 1; none for no words.

    Raises InputProblem that says which word is none and what is.
    """
    limits = {}
    for part in filter(None, (part.strip() for part in words.split(","))):
        match = _LIMIT.fullmatch(part)
        name, number, unit = match.groups() if match else ("", "", "")
        if name not in SHARES + DEGREES or unit == ("°" if name in SHARES else "%"):
            raise InputProblem(
                given_by,
                f"“{part}” is no limit.",
                f"Give names and numbers with commas between: {', '.join(DEGREES)} in degrees, {', '.join(SHARES)} in "
                "percent, such as mean 5, over30 1 %, missed 0.",
            )
        limits[name] = float(number) / 100 if name in SHARES else float(number)
    if not limits and words.strip():
        raise InputProblem(given_by, "It names no limit.", "Give one, such as mean 5.")
    return limits


def beyond(limits: dict[str, float], figures: dict[str, float]) -> list[str]:
    """A sentence for each limit that is passed by what a bake has, both by name, degrees or shares from 0 to 1."""
    return [
        f"{name} is {_words(name, figures[name])}, beyond {_words(name, most)}"
        for name, most in limits.items()
        if figures[name] > most
    ]


def _words(name: str, value: float) -> str:
    return f"{value:.2%}" if name in SHARES else f"{value:.2f}°"
