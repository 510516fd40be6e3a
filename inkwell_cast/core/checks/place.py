"""Low and high that do not share a place or a scale."""

from collections.abc import Iterator

import numpy as np

from ..arrays import F64
from .finding import Finding, Inspected, Remedy, Subject

KEY = "place"
TITLE = "Place and scale"
APART = 0.25  # of the diagonal, between the boxes' centres
LARGER = 1.6
KNOWN_FACTORS = np.array([0.001, 0.01, 0.1, 0.0254, 0.3048, 1 / 2.54, 2.54, 1 / 0.3048, 1 / 0.0254, 10, 100, 1000, 1])
SNAP = 0.12


def box(subjects: list[Subject]) -> F64:
    """Lowest and highest corner of some parts together, (2, 3) float64."""
    boxes = np.array([s.mesh.bounds for s in subjects if len(s.mesh.positions)], np.float64)
    return np.stack([boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)])


def find(piece: Inspected) -> Iterator[Finding]:
    lows, highs = [s for s in piece.lows if s.pair], [s for s in piece.highs if s.pair]
    if not lows or not highs:
        return
    whole = _compare(box(lows), box(highs))
    if whole:
        files = {s.part.file for s in highs}
        fix = None
        if len(files) == 1 and not files & {s.part.file for s in lows}:
            fix = _alignment(piece, box(lows), box(highs), files.pop())
        yield Finding(
            KEY, "warning", "Low and high lie apart", lows[0].part.key, 1, f"The high {whole}.",
            "Export both from the same place and scale, or align the high here.", fix,
        )  # fmt: skip
        return
    for pair in piece.assembly.paired.pairs:
        own = [s for s in lows if s.pair == pair.name], [s for s in highs if s.pair == pair.name and s.role != "float"]
        words = _compare(box(own[0]), box(own[1])) if own[1] else ""
        if words:
            first = own[0][0]
            yield Finding(
                KEY, "warning", "Pair lies apart", first.part.key, 1, f"In {pair.name} the high {words}.",
                "Check that the names belong together.", marks=first.marks(np.ones(len(first.mesh.triangles), bool)),
            )  # fmt: skip


def _compare(low: F64, high: F64) -> str:
    """What is different, in words; empty where the boxes agree."""
    sizes = [float(np.linalg.norm(b[1] - b[0])) for b in (low, high)]
    if not sizes[0] or not sizes[1]:
        return ""
    factor = sizes[1] / sizes[0]
    if not 1 / LARGER < factor < LARGER:
        return f"is {factor:.3g} times the size of the low"
    apart = float(np.linalg.norm((high[0] + high[1] - low[0] - low[1]) / 2))
    if apart > APART * sizes[0]:
        return f"lies {apart:.3g} scene units away from the low, {apart / sizes[0]:.0%} of its diagonal"
    return ""


def _alignment(piece: Inspected, low: F64, high: F64, file: str) -> Remedy:
    """Scale and move that bring the high's box to the low's; a factor near a change of units is taken as that."""
    factor = float(np.linalg.norm(low[1] - low[0]) / np.linalg.norm(high[1] - high[0]))
    nearest = KNOWN_FACTORS[np.argmin(np.abs(np.log(KNOWN_FACTORS / factor)))]
    if abs(np.log(nearest / factor)) < SNAP:
        factor = float(nearest)
    own = piece.assembly.recipe.file(file)
    move = (low[0] + low[1]) / 2 - (high[0] + high[1]) / 2 * factor
    if np.linalg.norm(move) < 0.02 * np.linalg.norm(low[1] - low[0]):
        move = np.zeros(3)
    total = tuple(float(m * factor + d) for m, d in zip(own.move, move, strict=True))
    words = f"Scale {file} by {factor:.4g}" if abs(factor - 1) > 1e-9 else f"Move {file} to the low"
    return Remedy(words, "align", file, "", own.scale * factor, (total[0], total[1], total[2]))
