"""What a detector gives back, and what becomes of it: regions on the surface, in words."""

from collections.abc import Callable
from dataclasses import dataclass

from pydantic import BaseModel

from ..arrays import F64, I64


@dataclass(frozen=True, slots=True)
class Told:
    """The cause of a region with its numbers, what cures it, and outward and inward reach that would (scene units)."""

    what: str
    remedy: str
    reach: tuple[float, float] | None = None


@dataclass(frozen=True, slots=True)
class Found:
    """Rows of a `Seen`, how wrong each looks in degrees, and the words for some of them (places in `rows`)."""

    rows: I64
    error: F64
    tell: Callable[[I64], Told]


class Flaw(BaseModel):
    """A region where the projection went wrong; middle, radius, area and reach in scene units, error in degrees.

    reach, outward and inward, is what would cure it where that is all it takes.
    """

    cause: str
    title: str
    part: str
    what: str
    remedy: str
    middle: tuple[float, float, float]
    radius: float
    area: float
    error: float
    reach: tuple[float, float] | None = None

    @property
    def weight(self) -> float:
        """How much of it a viewer would see."""
        return self.area * self.error


def length(value: float) -> str:
    """A length in scene units with three figures."""
    return f"{value:.3g}"
