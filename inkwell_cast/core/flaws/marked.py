"""Flaws with what views hatch, in the order in which they are noticed, each told once."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from ..base.array_types import F32
from ..settings.mends import Mend
from . import farther_surface
from .flaw import Flaw

MOST_FLAWS = 40  # that are shown, and have their mends laid
ABSORBS = 0.1  # of a flaw: a smaller one around its rim that only passed a nearer surface belongs to it


@dataclass(frozen=True, slots=True)
class MarkedFlaw:
    """A flaw with the triangles to hatch: corners (M, 3, 3) on the low or sculpt and uvs (M, 3, 2) on the sheet.

    lit is the share of the light that it turns darker or brighter, and eye how soon a viewer looks there (`noticed`):
    flaws of a like share are ranked by both. lay gives the mends of one that does not have them yet.
    """

    flaw: Flaw
    corners: F32
    uvs: F32
    on_low: bool = True
    lit: float = 1.0
    eye: float = 1.0
    lay: Callable[[], list[Mend]] | None = None

    def with_mends(self) -> "MarkedFlaw":
        """This flaw with its mends laid."""
        if self.lay is None:
            return self
        self.flaw.mends = self.flaw.mends or self.lay()
        return replace(self, lay=None)

    @property
    def noticed(self) -> float:
        """How soon it is noticed: what it adds to the mean, more where it turns light dark and where one looks."""
        return self.flaw.share * self.lit * self.eye


@dataclass(frozen=True, slots=True)
class FlawList:
    """The flaws that show most, at most `MOST_FLAWS`, of those found, and how many places show too little.

    accepted counts those that somebody said are as they should be.
    """

    shown: list[MarkedFlaw]
    found: int
    harmless: int
    accepted: int = 0

    @property
    def flaws(self) -> list[Flaw]:
        return [shown.flaw for shown in self.shown]


def told_once(flaws: list[MarkedFlaw]) -> list[MarkedFlaw]:
    """Flaws, the worst first, without those of checks that are told by their texels, or by their other half.

    Then another cures all that they have. Of texels only the worst are asked, since laying mends takes its time.
    """
    found = [shown for shown in flaws if shown.lay is None]
    worst = [shown for shown in flaws if shown.lay][: MOST_FLAWS if found else 0]
    mends = [change for shown in worst for change in _changes(shown.with_mends().flaw)]
    kept = list[MarkedFlaw]()
    for shown in found:
        cure = _changes(shown.flaw)
        if not cure or any(change not in mends for change in cure):
            kept.append(shown)
        mends += cure
    return [shown for shown in flaws if shown.lay or any(shown is one for one in kept)]


def without_rims(flaws: list[MarkedFlaw]) -> list[MarkedFlaw]:
    """Flaws, the worst first, without those that are but the rim of a larger one."""
    kept: list[MarkedFlaw] = []
    for shown in flaws:
        rim = shown.flaw.cause == farther_surface.KEY and any(
            one.flaw.part == shown.flaw.part
            and shown.flaw.share < ABSORBS * one.flaw.share
            and np.linalg.norm(np.subtract(one.flaw.middle, shown.flaw.middle)) <= one.flaw.radius + shown.flaw.radius
            for one in kept
        )
        kept += [] if rim else [shown]
    return kept


def _changes(flaw: Flaw) -> list[str]:
    """What the mends of a flaw change."""
    return [mend.changes for mend in flaw.mends]
