"""Mend all: what settings can cure is cured, judged by what a viewer sees.

Where the reach is wrong in several places, the measured one is tried first: pockets would cure them one by one.

Small bakes of the normals alone are judged beside the best on this low, always by the same pixels. In rounds the next
mend of every flaw is tried, those that do not touch together. One is kept if what is seen of its own flaw falls to
`BETTER` of it or less and nothing around the mends gets worse; where something does, each is tried by itself. In the
end all that was kept must look better together than nothing did. The trials cost at most `BUDGET` bakes, and end
where what is left to try could win less than `WORTH`.
"""

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from ..bake.baked import Bake
from ..bake.bands import RemoteBands
from ..bake.measured_reach import measure
from ..bake.pipeline import bake
from ..base.array_types import AnyArray, Bool
from ..base.figures import figure
from ..base.progress import Cancel, Progress, ShareDone
from ..flaws import IN_TEXELS, Flaw, neighbour_occlusion
from ..flaws.texel_rows import TexelRows, seen_of
from ..piece.assembly import assemble
from ..piece.piece import BakeMeshes
from ..piece.scene_cache import Warm
from ..review.judgement import degrees_of
from ..settings.mends import Mend
from ..settings.mends_overlay import BUDGET, WORTH, Report, TriedMend, add_mend
from ..settings.recipe import Recipe
from ..settings.scope_settings import ScopeSettings
from ..settings.scopes import pair_scope
from ..settings.sheet import Size

BETTER = 0.7  # of what is seen of a flaw may be left
WORSE, BY = 0.002, 5.0  # of the pixels may look worse elsewhere by so many degrees
HARM = 0.0005  # degrees by which the whole may seem worse and still be the same
FEWEST = 8  # trials
LARGEST = 512  # texels on the longest side of a trial
ROUNDS = 6
SEVERAL, MUCH = 4, 0.3  # flaws of the reach, and degrees that they add, from which on another reach is tried
OF_REACH = {"other", "farther", "outside", "inside", "missed"}
ROOM = 1.15  # of a flaw's radius: what lies in there is its own


Kept = Callable[[str, str, AnyArray], None]  # a map by key and sheet, as it is written


@dataclass(frozen=True, slots=True)
class MendedAll:
    """The recipe with the mends that were kept, its bake, and the report."""

    recipe: Recipe
    bake: Bake
    report: Report


@dataclass(frozen=True)
class _State:
    """A trial with some mends: what is seen of its texels, sheet by sheet, and the mean with misses.

    `find` looks for its flaws, which costs more than the trial: only where they are asked for. images are its maps.
    """

    mends: list[Mend]
    find: Callable[[], list[Flaw]]
    sheets: list[TexelRows]
    mean: float
    images: dict[str, dict[str, AnyArray]]

    @cached_property
    def flaws(self) -> list[Flaw]:
        return self.find()

    @property
    def to_mend(self) -> float:
        """Degrees of the mean above the best on this low, 0 below it, with what only checks can tell."""
        above = sum(float(seen.looks.share.sum()) for seen in self.sheets)
        return max(above, 0.0) + sum(flaw.share for flaw in self.flaws if flaw.cause not in IN_TEXELS)

    def left_of(self, flaw: Flaw) -> float:
        """What is seen of a flaw here: of its ball, or of its part where only a check can tell it."""
        if flaw.cause not in IN_TEXELS:
            return sum(one.share for one in self.flaws if (one.cause, one.part) == (flaw.cause, flaw.part))
        return sum(float(seen.looks.share[_in_ball(seen, flaw)].sum()) for seen in self.sheets)

    def harmed_since(self, before: "_State", flaws: list[Flaw]) -> bool:
        """Whether too many pixels look worse than before outside the balls of some flaws."""
        worse = pixels = 0.0
        for old, new in zip(before.sheets, self.sheets, strict=True):
            pixels += float(new.looks.pixels.sum())
            if len(old.x) != len(new.x):  # another low: its parts cannot be told apart texel by texel
                continue
            outside = ~np.any([_in_ball(new, flaw) for flaw in flaws], axis=0)
            angle = np.where(new.struck > 0, new.looks.excess - old.looks.excess, 0.0)
            worse += float(new.looks.pixels[outside & (angle > BY)].sum())
        return worse > WORSE * pixels


def _in_ball(seen: TexelRows, flaw: Flaw) -> Bool:
    away = np.linalg.norm(seen.place - np.array(flaw.middle), axis=1)
    texel = float(np.median(seen.size)) if len(seen.size) else 0.0
    return np.asarray(away <= ROOM * flaw.radius + 2 * texel, bool)


@dataclass(slots=True)
class _Trials:
    """Small bakes of a recipe with some mends, as many as the budget allows."""

    recipe: Recipe
    meshes: BakeMeshes
    warm: Warm
    heard: ShareDone
    cancel: Cancel
    most: int
    kept: Kept
    done: int = 0

    @property
    def left(self) -> int:
        return self.most - self.done

    def tell_kept(self, state: _State) -> None:
        """Let the normals with the mends that were kept so far be shown."""
        for sheet, images in state.images.items():
            self.kept("normal", sheet, images["normal"])

    def state(self, mends: list[Mend]) -> _State:
        self.heard(self.done / max(self.most, 1))
        self.done += 1
        result = bake(_with(self.recipe, mends), self.meshes, lambda stage, share: None, self.cancel, self.warm)
        judged = result.judgement()
        contexts = judged.contexts
        seen = [seen_of(context, visible) for context, visible in zip(contexts, judged.visible, strict=True)]
        bare = [visible.bare for visible in judged.visible]
        mean = degrees_of(contexts, judged.seen.sums, judged.seen.counts, bare)
        return _State(mends, lambda: result.flaws(judged).flaws, seen, mean, {s.name: s.images for s in result.sheets})


@dataclass(slots=True)
class _Attempt:
    """A mend of a flaw that is tried."""

    flaw: Flaw
    mend: Mend
    before: float
    after: float = 0.0
    kept: bool = False

    def judge(self, state: _State) -> None:
        self.after = state.left_of(self.flaw)
        self.kept = self.after <= BETTER * self.before


@dataclass(slots=True)
class _Search:
    """What was tried so far; `seen` are mends by what they change."""

    trials: _Trials
    first: _State
    now: _State
    tried: list[TriedMend] = field(default_factory=list)
    seen: set[str] = field(default_factory=set)

    def round(self) -> bool:
        """Try the next mends; False where nothing is left to try that is worth it."""
        attempts = self._next()
        if not attempts or self.trials.left < 1 or sum(one.before for one in attempts) < WORTH:
            return False
        together = self.trials.state([*self.now.mends, *(one.mend for one in attempts)])
        for one in attempts:
            one.judge(together)
        if together.harmed_since(self.now, [one.flaw for one in attempts]):
            self._one_by_one([one for one in attempts if one.kept])
        kept = [one.mend for one in attempts if one.kept]
        self.tried += [
            TriedMend(
                title=one.flaw.title,
                part=one.flaw.part,
                words=one.mend.words,
                before=one.before,
                after=one.after,
                kept=one.kept,
            )
            for one in attempts
        ]
        if len(kept) == len(attempts):
            self.now = together
        elif kept:  # what is told as kept is so, though it takes one trial more than there should be
            self.now = self.trials.state([*self.now.mends, *kept])
        if kept:
            self.trials.tell_kept(self.now)
        return True

    def reach(self, recipe: Recipe, meshes: BakeMeshes, cancel: Cancel, warm: Warm) -> None:
        """Try the measured reach for every pair."""
        found = measure(recipe, meshes, cancel=cancel, warm=warm)
        assembly = assemble(recipe, meshes, warm)
        scale = recipe.reach.scale(assembly.low.diagonal)
        level = ScopeSettings(outward=found.outward / scale, inward=found.inward / scale)
        words = f"Set the reach to {figure(found.outward)} out and {figure(found.inward)} in"
        pairs = {pair_scope(pair.name): level for pair in assembly.paired.pairs}
        mend = Mend(name="Measured reach", words=words, cause="other", levels=pairs)
        state = self.trials.state([*self.now.mends, mend])
        kept = state.to_mend <= BETTER * self.now.to_mend and state.mean <= self.now.mean
        before, after = self.now.to_mend, state.to_mend
        self.tried.append(
            TriedMend(title="The reach", part="all parts", words=words, before=before, after=after, kept=kept)
        )
        if kept:
            self.now = state
            self.trials.tell_kept(self.now)

    def _next(self) -> list[_Attempt]:
        """The next mend of every flaw, what wins most first, as far as they do not touch.

        Places of one kind that lie beside each other are mended together, each in its own place.
        """
        chosen: list[_Attempt] = []
        for flaw in self.now.flaws:
            mend = next((mend for mend in flaw.mends if mend.changes not in self.seen), None)
            if mend and all(_beside(flaw, mend, one) or not _touch(flaw, one.flaw) for one in chosen):
                self.seen.add(mend.changes)
                chosen.append(_Attempt(flaw, mend, self.now.left_of(flaw)))
        return chosen

    def _one_by_one(self, attempts: list[_Attempt]) -> None:
        """Some of these do harm: keep those that do none alone."""
        for one in attempts:
            one.kept = False
            if self.trials.left > 1:
                state = self.trials.state([*self.now.mends, one.mend])
                one.judge(state)
                one.kept = one.kept and not state.harmed_since(self.now, [one.flaw])


def _beside(flaw: Flaw, mend: Mend, other: _Attempt) -> bool:
    """Whether two mends of one kind each change their own place alone."""
    same = (flaw.kind, flaw.part) == (other.flaw.kind, other.flaw.part)
    return same and mend.of_a_place and other.mend.of_a_place


def _touch(one: Flaw, other: Flaw) -> bool:
    apart = float(np.linalg.norm(np.subtract(one.middle, other.middle)))
    return apart < ROOM * (one.radius + other.radius)


def mend_all(
    recipe: Recipe,
    meshes: BakeMeshes,
    progress: Progress = lambda stage, share: None,
    cancel: Cancel = lambda: False,
    warm: Warm | None = None,
    remote: RemoteBands | None = None,
    kept: Kept = lambda key, sheet, image: None,
) -> MendedAll:
    """Mend what settings can; `remote` bands find the bake at the end, `kept` hears how it looks with what was kept.

    Raises what `bake` does.
    """
    warm = warm or Warm()
    small, most = _trial_of(recipe)
    trials = _Trials(small, meshes, warm, lambda share: progress("mending", share / 2), cancel, most, kept)
    first = trials.state([])
    search = _Search(trials, first, first)
    of_reach = [flaw.share for flaw in first.flaws if flaw.cause in OF_REACH]
    if len(of_reach) >= SEVERAL and sum(of_reach) > MUCH and recipe.reach.shape == "even":
        search.reach(small, meshes, cancel, warm)
    for _ in range(ROUNDS):
        if not search.round():
            break
    last = search.now  # a part that found its sculpt counts in the mean from now on: that may rise by what is mended
    if last.to_mend > first.to_mend + HARM or last.mean - first.mean > first.to_mend - last.to_mend + HARM:
        last = first
        search.tried = [one.model_copy(update={"kept": False}) for one in search.tried]
    given = _with(recipe, last.mends)
    result = bake(given, meshes, lambda stage, share: progress(stage, 0.5 + 0.47 * share), cancel, warm, remote=remote)
    progress("mending", 1.0)
    left = [f"{flaw.title}, {flaw.part.rpartition('/')[2]}: {flaw.remedy}" for flaw in last.flaws if not flaw.mends]
    report = Report(
        flaws=(len(first.flaws), len(last.flaws)),
        weight=(first.to_mend, last.to_mend),
        seen=(first.mean, last.mean),
        tried=search.tried,
        left=left,
    )
    return MendedAll(given, result, report)


def _with(recipe: Recipe, mends: list[Mend]) -> Recipe:
    for mend in mends:
        recipe = add_mend(recipe, mend)
    return recipe


def _trial_of(recipe: Recipe) -> tuple[Recipe, int]:
    """The recipe as it is tried, and how many trials the budget allows.

    Smaller sheets, of normals alone, and of occlusion by one ray where that is baked: shade of neighbours is then told.
    """
    sides = [(recipe.sheet.width, recipe.sheet.height), *((s.width, s.height) for s in recipe.sizes.values())]
    longest = max(max(side) for side in sides)
    shrink = min(1.0, LARGEST / longest)

    def smaller(width: int, height: int) -> dict[str, int]:
        return {"width": max(16, round(width * shrink)), "height": max(16, round(height * shrink))}

    proof = recipe.proof()
    sheet = proof.sheet.model_copy(update=smaller(recipe.sheet.width, recipe.sheet.height))
    sizes = {name: Size(**smaller(s.width, s.height)) for name, s in recipe.sizes.items()}
    maps = ["normal", *(key for key in recipe.output.maps if key in neighbour_occlusion.BAKED)]
    changed = {
        "sheet": sheet,
        "sizes": sizes,
        "output": proof.output.model_copy(update={"maps": maps}),
        "occlusion": proof.occlusion.model_copy(update={"rays": 1}),
    }
    small = proof.model_copy(update=changed)
    return small, max(FEWEST, int(BUDGET / shrink**2))
