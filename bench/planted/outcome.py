"""What becomes of an asset: its flaws beside what was planted, and what Mend all makes of it."""

from collections import Counter
from dataclasses import dataclass, field

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.mending.mend_all import mend_all
from inkwell_cast.core.review.judgement import Judgement
from inkwell_cast.core.settings.pairing import Pair

from .assets import Asset, asset, unit_of

SHOWS, OUTLINE = 0.15, 0.02  # degrees of its pair's mean, and share of its outline, by which a mistake shows
CURED = 0.3  # of what is to mend may be left; nothing to mend is nothing cured
HARM = 0.002  # degrees by which the mean as seen may grow


@dataclass(slots=True)
class Outcome:
    """What became of an asset: a line of what was told, and its counts by mistake or kind of unit."""

    line: str
    planted: Counter[str] = field(default_factory=Counter)
    found: Counter[str] = field(default_factory=Counter)
    told: Counter[str] = field(default_factory=Counter)
    right: Counter[str] = field(default_factory=Counter)
    mendable: Counter[str] = field(default_factory=Counter)
    cured: Counter[str] = field(default_factory=Counter)
    worse: int = 0
    healthy: int = 0
    silent: int = 0


def outcome(seed: int, mending: bool) -> Outcome:
    one = asset(seed)
    made = bake(one.recipe, one.meshes)
    judged = made.judgement()
    told = made.flaws(judged).flaws
    shown = _shown(one, made.assembly.paired.pairs, judged) if one.mistakes else set()
    by_unit = [(unit_of(flaw.part) if flaw.part else -1, flaw) for flaw in told]
    result = Outcome("")
    for n, mistake in one.mistakes.items():
        if n in shown:
            result.planted[mistake.name] += 1
            result.found[mistake.name] += any(unit == n and flaw.cause in mistake.causes for unit, flaw in by_unit)
    for unit, flaw in by_unit:
        right = unit in one.mistakes and flaw.cause in one.mistakes[unit].causes
        result.told[flaw.cause] += 1
        result.right[flaw.cause] += right
    if not one.mistakes:
        result.healthy, result.silent = 1, not told
    words = ", ".join(f"u{unit} {flaw.cause} {flaw.share:.3f}°" for unit, flaw in by_unit) or "–"
    kinds = "; ".join(
        f"u{n} {kind}{'' if n not in one.mistakes else ' **' if n in shown else ' (hidden) **'}"
        for n, kind in enumerate(one.kinds)
    )
    result.line = f"| {seed} | {kinds} | {words} | {_mended(one, shown, result) if mending else ''} |"
    return result


def _shown(one: Asset, pairs: list[Pair], judged: Judgement) -> set[int]:
    """The units whose mistake a viewer sees, beside the twin without it."""
    twin = asset(one.seed, wrong=False)
    made = bake(twin.recipe, twin.meshes)
    right = made.judgement()
    shown = {n for n, mistake in one.mistakes.items() if mistake.always}
    wrong_of, right_of = _figures(pairs, judged), _figures(made.assembly.paired.pairs, right)
    for n in one.mistakes:
        (mean, outline), (mean_2, outline_2) = wrong_of.get(n, (90, 1)), right_of.get(n, (0, 0))
        if mean > mean_2 + SHOWS or outline > outline_2 + OUTLINE:
            shown.add(n)
    return shown


def _figures(pairs: list[Pair], judged: Judgement) -> dict[int, tuple[float, float]]:
    """Mean angle, and what only one of low and sculpt covers, by unit."""
    found: dict[int, tuple[float, float]] = {}
    for pair, seen in zip(pairs, judged.seen.pairs, strict=True):
        if seen and pair.lows:
            found[unit_of(pair.lows[0].key)] = seen.mean, seen.outline + seen.inside
    return found


def _mended(one: Asset, shown: set[int], result: Outcome) -> str:
    """What Mend all did, in degrees to mend and as seen, and whether that cured it."""
    report = mend_all(one.recipe, one.meshes).report
    seen = report.seen or (0.0, 0.0)
    did = f"{report.weight[0]:.2f}° → {report.weight[1]:.2f}°, seen {seen[0]:.2f}° → {seen[1]:.2f}°"
    if seen[1] > seen[0] + HARM and report.weight[1] > report.weight[0]:
        result.worse += 1
        return did + " **worse**"
    names = [mistake.name for n, mistake in one.mistakes.items() if n in shown]
    if not names or not all(mistake.curable for mistake in one.mistakes.values()):
        return did
    cured = report.weight[1] < CURED * report.weight[0]
    for name in names:
        result.mendable[name] += 1
        result.cured[name] += cured
    return did + (" cured" if cured else " **not cured**")
