"""What a detector gives back, and what becomes of it: regions on the surface, in words."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from pydantic import BaseModel, model_validator

from ..base.array_types import F64, I32, I64
from ..rays.along_surface import Ground, Place
from ..settings.mends import Mend
from ..settings.regions import Accepted

ROOM = 1.05  # a mend reaches a little past the flaw
MOST_HELD, MOST_PATCHES = 400, 24  # places of a flaw that decide where its patches lie, and how many there are
NEAR_ALONG, FAR_ALONG = 1.5, 3.0  # of its radius: how far along the surface one patch of it reaches, and may reach
LEAST_PATCH = 0.05  # of its radius
AROUND_A_BEND = 1.6  # times as long is the way along a surface that bends half around


@dataclass(frozen=True, slots=True)
class Spot:
    """Where a flaw lies: its part FILE/OBJECT, middle and radius of the ball around it, and places (N, 3) of it.

    triangles (N,) are the rows of the low that they lie on; ground is that low.
    """

    title: str
    part: str
    middle: tuple[float, float, float]
    radius: float
    places: F64
    triangles: I32 | I64
    ground: Callable[[], Ground]
    _laid: list[tuple[Place, float]] = field(default_factory=list)

    @property
    def name(self) -> str:
        """A name for what mends it."""
        return f"{self.title}, {self.part.rpartition('/')[2]}"

    def patches(self) -> list[tuple[Place, float]]:
        """Centres and radii of patches that hold it: one, or more where it does not hang together on the surface."""
        if self._laid:
            return self._laid
        few = np.unique(np.linspace(0, len(self.places) - 1, min(len(self.places), MOST_HELD)).astype(np.int64))
        places, triangles, found, ground = self.places[few], self.triangles[few], self._laid, self.ground()
        shells = ground.shells[triangles]
        while len(places) and len(found) < MOST_PATCHES:
            middle = int(np.argmin(np.linalg.norm(places - places.mean(axis=0), axis=1)))
            for reach in (NEAR_ALONG * self.radius, FAR_ALONG * self.radius):
                around = ground.around(places[middle], reach)
                away = around.distance(triangles, places)
                away[middle] = 0.0
                held = away <= reach
                if held[shells == shells[middle]].all():  # nothing leads to another shell
                    break
            radius = max(ROOM * float(away[held].max()), LEAST_PATCH * self.radius, 1e-9)
            found.append((around.middle, radius))
            places, triangles, shells = places[~held], triangles[~held], shells[~held]
        return found


def no_mends(spot: Spot) -> list[Mend]:
    return []


@dataclass(frozen=True, slots=True)
class Explanation:
    """The cause of a region with its numbers, and what cures it, in words and as `mends(spot)`, the best first.

    cause and title take the place of the detector's where a region has one of its own. What is `by_part` is told once
    for all such regions of a part.
    """

    what: str
    remedy: str
    mends: Callable[[Spot], list[Mend]] = field(default=no_mends)
    cause: str = ""
    title: str = ""
    by_part: bool = False


@dataclass(frozen=True, slots=True)
class FlawRows:
    """Rows of a `Seen` that show a cause, and the words for some of them (places in `rows`).

    error (N,) is how wrong each looks in degrees where that is no matter of normals, such as shade; None where it is
    what a viewer sees of the rows above the best on this low.
    """

    rows: I64
    tell: Callable[[I64], Explanation]
    error: F64 | None = None


class Flaw(BaseModel):
    """A region where the projection went wrong; middle, radius and area in scene units.

    error is how wrong it looks, above the best on this low, and share what that adds to the mean of the whole; degrees.
    mends are what would cure it, the best first; none where it takes the modelling program. spots are points of the low
    in it where it looks worst, the worst first, and texel is the first one's on the sheet with this number; none for
    what has no place there. Flaws of earlier versions have one `spot`.
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
    share: float = 0.0
    mends: list[Mend] = []
    spots: list[tuple[float, float, float]] = []
    sheet: int = 0
    texel: tuple[int, int] | None = None

    @model_validator(mode="before")
    @classmethod
    def _of_one_spot(cls, given: Any) -> Any:
        if isinstance(given, dict) and given.get("spot") and not given.get("spots"):
            return {name: value for name, value in given.items() if name != "spot"} | {"spots": [given["spot"]]}
        return given

    @property
    def kind(self) -> tuple[str, str]:
        """What flaws have in common that have one cause and one title."""
        return self.cause, self.title

    def is_among(self, accepted: list[Accepted], along: Callable[[Accepted], float] | None = None) -> bool:
        """Whether somebody said that this is as it should be; `along` says how far it lies off on the surface."""
        place = np.array(self.spot or self.middle)
        return any(
            a.cause == self.cause
            and np.linalg.norm(place - a.centre) <= a.radius
            and (along is None or along(a) <= AROUND_A_BEND * a.radius)
            for a in accepted
        )

    @property
    def spot(self) -> tuple[float, float, float] | None:
        """Where it looks worst."""
        return self.spots[0] if self.spots else None
