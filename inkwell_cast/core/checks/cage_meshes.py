"""Cage meshes that do not match their low."""

from collections.abc import Iterator

import numpy as np

from ..base.errors import InputProblem
from ..cage.cage import build_cage
from ..cage.cage_file_verdict import cage_verdicts
from .finding import Finding, Inspected

KEY = "cages"
TITLE = "Cage does not match its low"


def find(piece: Inspected) -> Iterator[Finding]:
    a = piece.assembly
    cages = [cage for cage in a.cages if cage is not None]
    if not cages or not all(np.isfinite(m.positions).all() for m in [*cages, a.low]):
        return
    parts = {pair.name: pair.cages for pair in a.paired.pairs}
    try:
        built = build_cage(a)
    except InputProblem as problem:
        yield Finding(KEY, "blocking", "Cage cannot be used", problem.part, 1, problem.what, problem.remedy)
        return
    for verdict in cage_verdicts(a, built):
        if verdict.wrong:
            yield Finding(
                KEY,
                "blocking" if verdict.hopeless else "warning",
                "Cage does not fit its low",
                parts[verdict.pair][0].key,
                1,
                f"{verdict.pair}: {verdict.words}",
                "Export the cage again from the low as it is now, or take it out and set a reach.",
            )
    for form in built.forms:
        if form.form == "points":
            continue
        yield Finding(
            KEY,
            "note" if form.form == "surface" else "warning",
            TITLE,
            parts[form.pair][0].key,
            abs(form.faces[1] - form.faces[0]) or form.faces[0],
            f"{form.pair}: {form.words}",
            "If it should lie on the low point by point, export it again from the low as it is now.",
        )
