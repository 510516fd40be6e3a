"""Measure: the reach that serves best as seen, tried out on small bakes.

How far the sculpt may lie from the low says where rays could start and end: at every texel the nearest surface that
projection could take there (`review/best_on_low.py`). Shares of the texels, from most of them to all, give distances to
try; what few texels ask for is never obeyed unseen. The distances are tried together, then the better half each by
itself, and what looks best wins; of reaches that look alike, the one that holds more.
"""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32
from ..base.figures import figure
from ..base.progress import Cancel, ShareDone
from ..cage.cage import lows_of
from ..cage.coverage import coverage, round_up
from ..cage.inverse_rays import located_of
from ..cage.shortfalls import Shortfall
from ..piece.assembly import assemble
from ..piece.piece import BakeMeshes
from ..piece.scene_cache import Warm
from ..review.as_seen import as_seen, bare_pixels
from ..review.judgement import degrees_of, normals_of, wanted_heights
from ..review.worn_pictures import Pictures
from ..settings.editing import with_reach
from ..settings.recipe import Recipe
from .baked import Bake
from .pipeline import bake

SHARES = (0.8, 0.95, 0.99, 0.998, 0.9998, 0.9998)  # of the texels whose nearest surface is held,
ROOM = np.array([1.1, 1.1, 1.1, 1.1, 1.1, 1.6])  # so many times; between texels it may lie farther
LEAST = 0.001  # of the low's diagonal, at least
ALIKE = 0.01  # degrees: what differs by less looks the same
MOST = len(SHARES) + 5  # trials


@dataclass(frozen=True, slots=True)
class Measured:
    """Outward and inward reach in scene units, and how the piece is seen with them, in degrees of the mean.

    before is that of the reach that was in force. beyond is the share of the sculpt's surface that lies farther, at the
    places listed; tried counts the trials.
    """

    outward: float
    inward: float
    seen: float
    before: float
    beyond: float
    places: list[Shortfall]
    tried: int

    @property
    def words(self) -> str:
        """What was found, in a sentence or two."""
        gain = self.before - self.seen
        than = f", {gain:.2f}° better than before." if gain >= ALIKE else ", as before."
        reach, left = f"{figure(self.outward)} out and {figure(self.inward)} in", share_in_words(self.beyond)
        farther = f" {left} of the sculpt lies farther; leave it out, or hold it with a pocket." if self.beyond else ""
        return f"Of {self.tried} reaches {reach} look best: {self.seen:.2f}°{than}{farther}"

    def set_in(self, recipe: Recipe, diagonal: float, scope: str = "piece") -> Recipe:
        """A recipe with this reach for a scope, rounded to what matters; `diagonal` is that of the low."""
        scale = recipe.reach.scale(diagonal)
        reach = {name: float(f"{getattr(self, name) / scale:.3g}") for name in ("outward", "inward")}
        return with_reach(recipe, scope, reach)


def share_in_words(share: float) -> str:
    """A share from 0 to 1 in per cent."""
    return "under 0.01 %" if share < 1e-4 else f"{100 * share:.2g} %"


def measure(
    recipe: Recipe,
    meshes: BakeMeshes,
    scope: str = "piece",
    progress: ShareDone = lambda share: None,
    cancel: Cancel = lambda: False,
    warm: Warm | None = None,
) -> Measured:
    """The reach of a scope ("piece", "pair:NAME", "object:FILE/OBJECT") that serves best; raises what `bake` does."""
    trials = _Trials(_small(recipe), meshes, scope, progress, cancel, warm or Warm())
    first = trials.baked(None)
    before, (outward, inward) = _degrees(first), _distances(first, scope)
    tried, made = dict[tuple[int, int], float](), dict[tuple[int, int], Bake]()

    def take(i: int, j: int) -> None:
        made[i, j] = trials.baked((outward[i], inward[j]))
        tried[i, j] = _degrees(made[i, j])

    for i in range(len(SHARES)):
        take(i, i)
    best = _best(tried)
    for i, j in ((best[0] + di, best[1] + dj) for di, dj in ((-1, 0), (0, -1), (1, 0), (0, 1))):
        if 0 <= i < len(SHARES) and 0 <= j < len(SHARES):
            take(i, j)
    i, j = _best(tried)
    last = made[i, j]
    located, chosen = located_of(last.assembly, last.warm), lows_of(last.assembly, scope)
    held = coverage(last.assembly, last.sculpt, last.cage, located, chosen, cancel)
    return Measured(outward[i], inward[j], tried[i, j], before, 1 - held.held, held.places, len(tried))


@dataclass(frozen=True, slots=True)
class FitTried:
    """The even reach that looks best, and how the piece is seen with a cage fitted from it, degrees of the mean."""

    even: Measured
    fitted: float

    @property
    def serves(self) -> bool:
        """Whether a fitted cage looks no worse."""
        return self.fitted <= self.even.seen + ALIKE

    @property
    def words(self) -> str:
        """What was found, in a sentence or two."""
        reach = f"{figure(self.even.outward)} out and {figure(self.even.inward)} in"
        even = f"{self.even.seen:.2f}° with the best even reach, {reach}"
        found = f"{self.fitted:.2f}° as seen with a cage fitted from it, {even}."
        return found if self.serves else f"{found} The even one is set: hold single places by pockets."

    def set_in(self, recipe: Recipe, diagonal: float) -> Recipe:
        """The recipe with the even reach, and with a cage fitted from it if that looks no worse."""
        measured = self.even.set_in(recipe, diagonal)
        shape = "fitted" if self.serves else "even"
        return measured.model_copy(update={"reach": measured.reach.model_copy(update={"shape": shape})})


def try_fit(
    recipe: Recipe,
    meshes: BakeMeshes,
    progress: ShareDone = lambda share: None,
    cancel: Cancel = lambda: False,
    warm: Warm | None = None,
) -> FitTried:
    """Measure the even reach, and bake small with a cage that is fitted from it; raises what `bake` does."""
    warm = warm or Warm()
    even = measure(recipe, meshes, "piece", lambda share: progress(0.7 * share), cancel, warm)
    progress(0.8)
    small = even.set_in(_small(recipe), assemble(recipe, meshes, warm).low.diagonal)
    small = small.model_copy(update={"reach": small.reach.model_copy(update={"shape": "fitted"})})
    return FitTried(even, _degrees(bake(small, meshes, cancel=cancel, warm=warm)))


def _best(tried: dict[tuple[int, int], float]) -> tuple[int, int]:
    """Of the reaches that look best the one that holds most."""
    least = min(tried.values())
    return max((key for key, degrees in tried.items() if degrees <= least + ALIKE), key=lambda key: (sum(key), key))


def _small(recipe: Recipe) -> Recipe:
    """The recipe as it is tried: normals alone, one sample a texel, an even cage."""
    proof = recipe.proof()
    return proof.model_copy(
        update={
            "sheet": proof.sheet.model_copy(update={"samples": 1}),
            "output": proof.output.model_copy(update={"maps": ["normal"]}),
            "reach": proof.reach.model_copy(update={"shape": "even"}),
        }
    )


@dataclass(slots=True)
class _Trials:
    """Small bakes with another reach of a scope, in scene units, or with that in force."""

    recipe: Recipe
    meshes: BakeMeshes
    scope: str
    progress: ShareDone
    cancel: Cancel
    warm: Warm
    scale: float = 1.0
    done: int = 0

    def baked(self, reach: tuple[float, float] | None) -> Bake:
        self.progress(self.done / MOST)
        recipe, self.done = self.recipe, self.done + 1
        if reach:
            recipe = with_reach(recipe, self.scope, {"outward": reach[0] / self.scale, "inward": reach[1] / self.scale})
        made = bake(recipe, self.meshes, cancel=self.cancel, warm=self.warm)
        self.scale = recipe.reach.scale(made.assembly.low.diagonal)
        return made


def _degrees(made: Bake) -> float:
    """Mean angle as seen, with places of the low that have no sculpt where rays missed."""
    contexts = [sheet.context for sheet in made.sheets]
    pictures = Pictures([normals_of(context) for context in contexts])
    (seen,) = as_seen(contexts, [pictures], proof=True)
    return degrees_of(contexts, seen.sums, seen.counts, bare_pixels(contexts, pictures, proof=True))


def _distances(made: Bake, scope: str) -> tuple[list[float], list[float]]:
    """Outward and inward reaches that hold the `SHARES` of a scope's texels, scene units, ascending."""
    chosen, above, below = lows_of(made.assembly, scope), list[F32](), list[F32]()
    wanted = wanted_heights([sheet.context for sheet in made.sheets])
    for sheet, heights in zip(made.sheets, wanted, strict=True):
        cast = sheet.cast
        mine = (cast.covered > 0) & chosen[sheet.low.triangles[np.maximum(cast.low_triangle, 0)]]
        known = heights[mine & np.isfinite(heights)]
        above.append(np.maximum(known, 0))
        below.append(np.maximum(-known, 0))
    least = LEAST * made.assembly.low.diagonal

    def reaches(parts: list[F32]) -> list[float]:
        known = np.concatenate(parts) if parts else np.zeros(0, np.float32)
        known = known if len(known) else np.zeros(1, np.float32)
        return [round_up(float(value) + least) for value in ROOM * np.quantile(known, SHARES)]

    return reaches(above), reaches(below)
