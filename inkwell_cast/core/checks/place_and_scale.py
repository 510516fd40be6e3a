"""Low and high that do not share a place or a scale."""

from collections.abc import Iterator

import numpy as np

from ..base.array_types import F64
from ..base.figures import figure
from ..mesh.alignment import alignment_of, axes_of, turn_of
from ..mesh.fixes import matrix_of
from ..mesh.surface_samples import box_around, surface_of
from .finding import Finding, Inspected, Remedy, Subject

KEY = "place"
TITLE = "Place and scale"
APART = 0.25  # of the diagonal, between the boxes' centres
LARGER = 1.6


def box(subjects: list[Subject]) -> F64:
    """Lowest and highest corner of some parts together, (2, 3) float64, copies left out."""
    boxes = np.array([_box(s) for s in subjects if s.judged.any()], np.float64)
    return np.stack([boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)])


def _box(subject: Subject) -> F64:
    triangles = subject.mesh.triangles[subject.judged] if len(subject.copies) else subject.mesh.triangles
    return np.stack(box_around(subject.mesh.positions, triangles))


def find(piece: Inspected) -> Iterator[Finding]:
    lows, highs = [s for s in piece.lows if s.pair], [s for s in piece.highs if s.pair]
    if not lows or not highs:
        return
    whole = _compare(box(lows), box(highs))
    fix, said = _alignment(piece, lows, [s for s in highs if s.role != "float"] or highs)
    if whole or fix:
        what = f"The high {whole}." if whole else "The high fills the low's box, but its surface lies elsewhere."
        yield Finding(
            KEY,
            "warning",
            "Low and high lie apart",
            lows[0].part.key,
            1,
            what + said,
            "Export both from the same place, axes and scale, or align the high here."
            if fix
            else "Export both from the same place, axes and scale.",
            fix,
        )
        return
    for pair in piece.assembly.paired.pairs:
        here = [s for s in lows if s.pair == pair.name], [s for s in highs if s.pair == pair.name and s.role != "float"]
        words = _compare(box(here[0]), box(here[1])) if here[1] else ""
        if words:
            first = here[0][0]
            yield Finding(
                KEY,
                "warning",
                "Pair lies apart",
                first.part.key,
                1,
                f"In {pair.name} the high {words}.",
                "Check that the names belong together.",
                marks=first.marks(np.ones(len(first.mesh.triangles), bool)),
            )


def _compare(low: F64, high: F64) -> str:
    """What is different, in words; empty where the boxes agree."""
    sizes = [float(np.linalg.norm(b[1] - b[0])) for b in (low, high)]
    if not sizes[0] or not sizes[1]:
        return ""
    factor = sizes[1] / sizes[0]
    if not 1 / LARGER < factor < LARGER:
        return f"is {figure(factor)} times the size of the low"
    apart = float(np.linalg.norm((high[0] + high[1] - low[0] - low[1]) / 2))
    if apart > APART * sizes[0]:
        return f"lies {figure(apart)} scene units away from the low, {apart / sizes[0]:.0%} of its diagonal"
    return ""


def _alignment(piece: Inspected, lows: list[Subject], highs: list[Subject]) -> tuple[Remedy | None, str]:
    """One change of the file of the highs that lays them onto the lows, and what it comes to; none where none does."""
    files = {s.part.file for s in highs}
    if len(files) != 1 or files & {s.part.file for s in lows}:
        return None, ""
    file = files.pop()
    alignment = alignment_of(
        *(surface_of([(s.mesh.positions, s.mesh.triangles[s.judged]) for s in each]) for each in (lows, highs))
    )
    if alignment is None:
        return None, ""
    settings = piece.assembly.recipe.file(file)
    matrix, now = np.eye(4), matrix_of(settings)
    matrix[:3, :3], matrix[:3, 3] = axes_of(alignment.turn) * alignment.scale, alignment.move
    both = matrix @ now
    scale = settings.scale * alignment.scale
    x, y, z = both[:3, 3].tolist()
    turn = turn_of(both[:3, :3] / scale)
    said = (
        f" After “{alignment.words}” the surfaces would lie {alignment.after:.1%} of the low's diagonal apart in the mean, "
        f"and lie {alignment.before:.0%} apart now."
    )
    return Remedy(
        f"{alignment.words}: {file}",
        "align",
        file,
        "",
        scale,
        (x, y, z),
        turn=turn,
        change=tuple(matrix.reshape(-1).tolist()),
    ), said
