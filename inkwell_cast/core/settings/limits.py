"""Limits on how a bake may be seen: read from words, such as “mean 5, over30 1 %, missed 0”, and compared."""

import re
from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import field_validator, model_validator

from ..base.errors import InputProblem
from ..base.setting import SettingsGroup, setting

SHARES = ("over5", "over15", "over30", "outline", "inside", "missed")  # in words in percent
DEGREES = ("mean", "p95", "excess")
_LIMIT = re.compile(r"(\w+)\s+(\d+(?:\.\d+)?)\s*([%°]?)")


Judging = Literal["full", "proof", "none"]


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
    judge: Annotated[
        Judging,
        setting(
            "Judged",
            "Full: by what is seen from 32 directions, at up to 1024 texels. Proof: from 16, at up to 512, sooner. "
            "None: the maps alone, without figures and flaws; limits need one of the others.",
        ),
    ] = "full"

    @model_validator(mode="after")
    def _judged(self) -> "Limits":
        if self.judge == "none" and self.words:
            raise ValueError("limits need a bake that is judged: choose proof or full, or take the limits out")
        return self

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


@dataclass(frozen=True, slots=True)
class HeldTo:
    """What a batch holds its pieces to in place of their own settings: limits in words, and how they are judged."""

    words: str | None = None
    judge: Judging | None = None

    def over(self, own: Limits) -> Limits:
        """A piece's own limits with these in their place. Raises InputProblem where they need a judge and have none."""
        words = own.words if self.words is None else self.words
        judge = own.judge if self.judge is None else self.judge
        limits_of(words)
        if words.strip() and judge == "none":
            raise InputProblem("--limit", "The bake is not to be judged.", "Let it be judged as a proof, or in full.")
        return Limits(words=words, judge=judge)


AS_THEY_ARE = HeldTo()


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
