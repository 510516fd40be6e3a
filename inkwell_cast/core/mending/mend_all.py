"""Mend all: the best mend of every flaw, baked, and kept where it did good.

Mends are tried together and judged each by its own flaw: what a viewer would see of it (area times angle) must fall to
`BETTER` of it or less, and neither the likeness nor the sum of all flaws may get worse; where it does, each is baked by
itself. One that does no good is taken back, and the next that its flaw offers is tried in its place.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..bake.baked import Bake
from ..bake.pipeline import bake
from ..flaws import Flaw, flaws_of
from ..piece.piece import BakeMeshes
from ..piece.scene_cache import Warm
from ..settings.mends import Mend
from ..settings.mends_overlay import Report, Tried, add_mend
from ..settings.recipe import Recipe

Progress = Callable[[str, float], None]

BETTER = 0.5  # the share of a flaw that may be left
WORSE = 0.02  # degrees by which the likeness of all may suffer
MISSED = 45.0  # degrees that a texel without a hit counts in the likeness here, so that a hole closed is no loss
ROUNDS = 3
USUAL = 3  # bakes: without mends, with them, with those kept


@dataclass(frozen=True, slots=True)
class MendedAll:
    """The recipe with the mends that were kept, its bake, and the report."""

    recipe: Recipe
    bake: Bake
    report: Report


@dataclass(frozen=True, slots=True)
class _State:
    """A recipe with some mends, its bake, its flaws, and the likeness with misses."""

    recipe: Recipe
    bake: Bake
    flaws: list[Flaw]
    angle: float

    @property
    def weight(self) -> float:
        return sum(flaw.weight for flaw in self.flaws)

    def harms(self, before: "_State") -> bool:
        """Whether the whole is worse than it was: less like the sculpt, or more flaws to be seen."""
        return self.angle > before.angle + WORSE or self.weight > before.weight


@dataclass(slots=True)
class _Try:
    """A flaw whose mends are tried one after the other, until one helps."""

    flaw: Flaw
    choices: list[Mend]
    kept: bool = False

    def left_in(self, state: _State) -> float:
        """What a viewer would still see of the flaw: those of its cause and part in its ball."""
        near = [
            other.weight
            for other in state.flaws
            if (other.part, other.cause) == (self.flaw.part, self.flaw.cause)
            and np.linalg.norm(np.subtract(other.middle, self.flaw.middle)) <= self.flaw.radius + other.radius
        ]
        return sum(near)

    def helped_in(self, state: _State) -> bool:
        return self.left_in(state) <= BETTER * self.flaw.weight


def mend_all(
    recipe: Recipe, meshes: BakeMeshes, progress: Progress = lambda stage, share: None,
    cancel: Callable[[], bool] = lambda: False, warm: Warm | None = None,
) -> MendedAll:  # fmt: skip
    """Mend what settings can; raises what `bake` does."""
    warm, count = warm or Warm(), 0

    def heard(stage: str, share: float) -> None:
        progress(stage, min((count + share) / USUAL, 0.97))

    def baked(mends: list[Mend]) -> _State:
        nonlocal count
        given = recipe
        for mend in mends:
            given = add_mend(given, mend)
        result = bake(given, meshes, heard, cancel, warm)
        count += 1
        shown = flaws_of([sheet.context for sheet in result.sheets], result.findings())
        return _State(given, result, [entry.flaw for entry in shown], mean_angle(result))

    first = baked([])
    tries = [_Try(flaw, list(flaw.mends)) for flaw in first.flaws if flaw.mends]
    tried, kept = list[Tried](), list[Mend]()
    for _ in range(ROUNDS):
        waiting = [attempt for attempt in tries if not attempt.kept and attempt.choices]
        if not waiting:
            break
        together = baked([*kept, *(attempt.choices[0] for attempt in waiting)])
        harmed = together.harms(first)
        for attempt in waiting:
            state, mend = together, attempt.choices.pop(0)
            if harmed and len(waiting) > 1 and attempt.helped_in(together):
                state = baked([*kept, mend])  # is it this one that does harm?
            attempt.kept = attempt.helped_in(state) and not state.harms(first)
            kept += [mend] if attempt.kept else []
            tried.append(
                Tried(
                    title=attempt.flaw.title, part=attempt.flaw.part, words=mend.words, before=attempt.flaw.weight,
                    after=attempt.left_in(state), kept=attempt.kept,
                )
            )  # fmt: skip
    last = baked(kept)
    progress("mending", 1.0)
    left = [f"{flaw.title}, {flaw.part.rpartition('/')[2]}: {flaw.remedy}" for flaw in last.flaws if not flaw.mends]
    report = Report(
        flaws=(len(first.flaws), len(last.flaws)), weight=(first.weight, last.weight),
        likeness=(first.angle, last.angle), tried=tried, left=left,
    )  # fmt: skip
    return MendedAll(last.recipe, last.bake, report)


def mean_angle(bake: Bake) -> float:
    """Mean angle in degrees between the sculpt and the low with its map, over all texels of all sheets.

    It is that of the map before it is written; texels without a hit count as `MISSED`.
    """
    total, count = 0.0, 0
    for sheet in bake.sheets:
        for key in sheet.images:
            degrees = bake.angles_in(sheet.images[key], key, sheet)
            if degrees is not None:
                covered = degrees[sheet.cast.covered > 0]
                total += float(np.nan_to_num(covered, nan=MISSED).sum())
                count += covered.size
                break
    return total / count if count else 0.0
