"""Mend all: the best mend of every flaw, baked, and kept where it did good.

Mends are tried together and judged each by its own flaw: what a viewer would see of it (area times angle, over flaws of
any cause near its place) must fall by `BETTER`, and the likeness must not suffer. One that does not is taken back, and
the next that the flaw offers is tried in its place. What is left has no mend among the settings.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from .assembly import BakeMeshes, Warm
from .bake import Bake, bake
from .flaws import Flaw, flaws_of
from .local_settings import Mend
from .mends import Report, Tried, add_mend
from .recipe import Recipe

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


@dataclass(slots=True)
class _Try:
    flaw: Flaw
    choices: list[Mend]
    after: float = 0.0
    kept: bool = False


def mend_all(
    recipe: Recipe, meshes: BakeMeshes, progress: Progress = lambda stage, share: None,
    cancel: Callable[[], bool] = lambda: False, warm: Warm | None = None,
) -> MendedAll:  # fmt: skip
    """Mend what settings can; raises what `bake` does."""
    warm = warm or Warm()
    count = 0

    def heard(stage: str, share: float) -> None:
        progress(stage, min((count + share) / USUAL, 0.97))

    def baked(mends: list[Mend]) -> tuple[Recipe, Bake, list[Flaw]]:
        nonlocal count
        given = recipe
        for mend in mends:
            given = add_mend(given, mend)
        made = bake(
            given, meshes, lambda stage, share: progress(stage, min((count + share) / USUAL, 0.97)), cancel, warm
        )
        count += 1
        shown = flaws_of([sheet.ground for sheet in made.sheets], made.findings())
        return given, made, [found.flaw for found in shown]

    given, made, flaws = baked([])
    first, likeness = flaws, mean_angle(made)
    tries = [_Try(flaw, list(flaw.mends)) for flaw in flaws if flaw.mends]
    tried, kept = list[Tried](), list[Mend]()
    for _ in range(ROUNDS):
        waiting = [own for own in tries if not own.kept and own.choices]
        if not waiting:
            break
        at_work = [own.choices[0] for own in waiting]
        _, made, flaws = baked([*kept, *at_work])
        good = [_left_of(own.flaw, flaws) <= BETTER * own.flaw.weight for own in waiting]
        harmed = mean_angle(made) > likeness + WORSE
        for own, helps in zip(waiting, good, strict=True):
            own.after, own.kept = _left_of(own.flaw, flaws), helps and not harmed
        if harmed:  # find out which: each by itself
            for own, helps in zip(waiting, good, strict=True):
                if helps and len(waiting) > 1:
                    _, alone, _ = baked([*kept, own.choices[0]])
                    own.kept = mean_angle(alone) <= likeness + WORSE
        for own in waiting:
            mend = own.choices.pop(0)
            tried.append(
                Tried(
                    title=own.flaw.title, part=own.flaw.part, words=mend.words, before=own.flaw.weight,
                    after=own.after, kept=own.kept,
                )
            )  # fmt: skip
            kept += [mend] if own.kept else []
    given, made, flaws = baked(kept)
    progress("mending", 1.0)
    left = [f"{flaw.title}, {flaw.part.rpartition('/')[2]}: {flaw.remedy}" for flaw in flaws if not flaw.mends]
    report = Report(
        flaws=(len(first), len(flaws)), weight=(_weight(first), _weight(flaws)),
        likeness=(likeness, mean_angle(made)), tried=tried, left=left,
    )  # fmt: skip
    return MendedAll(given, made, report)


def mean_angle(made: Bake) -> float:
    """Mean angle in degrees between the sculpt and the low with its map, over all texels of all sheets.

    It is that of the map before it is written; texels without a hit count as `MISSED`.
    """
    total, count = 0.0, 0
    for sheet in made.sheets:
        for key in sheet.images:
            found = made.angles_in(sheet.images[key], key, sheet)
            if found is not None:
                covered = found[sheet.cast.covered > 0]
                total += float(np.nan_to_num(covered, nan=MISSED).sum())
                count += covered.size
                break
    return total / count if count else 0.0


def _left_of(flaw: Flaw, flaws: list[Flaw]) -> float:
    """What a viewer would still see where a flaw was: flaws of its cause and part, and others that lie in its ball."""
    left = 0.0
    for other in flaws:
        if other.part == flaw.part and other.cause == flaw.cause:
            away = np.linalg.norm(np.subtract(other.middle, flaw.middle))
            left += other.weight if away <= flaw.radius + other.radius else 0.0
    return left


def _weight(flaws: list[Flaw]) -> float:
    return sum(flaw.weight for flaw in flaws)
