"""What glows and what shines, as it is typed: entries with semicolons between."""

import math
import re
from dataclasses import dataclass
from typing import Annotated

from pydantic import AfterValidator

COLOR = re.compile("#[0-9a-fA-F]{6}")
MOST = 64  # entries


@dataclass(frozen=True, slots=True)
class Glowing:
    """A material or object that glows: its name, colour "#rrggbb" and strength."""

    name: str
    color: str
    strength: float


@dataclass(frozen=True, slots=True)
class Lamp:
    """A lamp: its place in scene units, its strength and colour."""

    place: tuple[float, float, float]
    strength: float
    color: str


def glowing_in(words: str) -> list[Glowing]:
    """What glows, of entries such as "amber glass #ffd9a0 4". Raises ValueError for one that is none."""
    found = []
    for entry in _entries(words):
        parts = entry.split()
        strength, color = _number(parts[-1]), parts[-2] if len(parts) > 2 else ""
        if strength is None or strength < 0 or not COLOR.fullmatch(color):
            raise ValueError(f"“{entry[:60]}” is not a name, a colour such as #ffd9a0 and a strength such as 4")
        found.append(Glowing(" ".join(parts[:-2]), color, strength))
    return found


def lamps_in(words: str) -> list[Lamp]:
    """Lamps, of entries such as "0 1.5 0 2 #ffd9a0"; white without a colour. Raises ValueError for one that is none."""
    found = []
    for entry in _entries(words):
        parts = entry.split()
        color = parts.pop() if COLOR.fullmatch(parts[-1]) else "#ffffff"
        numbers = [_number(part) for part in parts]
        known = [number for number in numbers if number is not None]
        if len(numbers) != 4 or len(known) != 4 or known[3] < 0:
            raise ValueError(f"“{entry[:60]}” is not a place of three numbers, a strength and a colour such as #ffd9a0")
        found.append(Lamp((known[0], known[1], known[2]), known[3], color))
    return found


def _entries(words: str) -> list[str]:
    entries = [entry.strip() for entry in words.split(";") if entry.strip()]
    if len(entries) > MOST:
        raise ValueError(f"it has {len(entries)} entries; {MOST} are the most")
    return entries


def _number(word: str) -> float | None:
    try:
        value = float(word)
    except ValueError:
        return None
    return value if math.isfinite(value) and abs(value) <= 1e9 else None


def _glowing(words: str) -> str:
    glowing_in(words)
    return words


def _lamps(words: str) -> str:
    lamps_in(words)
    return words


GlowingWords = Annotated[str, AfterValidator(_glowing)]
LampWords = Annotated[str, AfterValidator(_lamps)]
