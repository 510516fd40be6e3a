"""Parts without a partner."""

from collections.abc import Iterator
from difflib import get_close_matches

import numpy as np

from ..mesh.marks import marks_of
from ..piece.piece import Assembly, take
from ..settings.lods import lods_in
from ..settings.pairing import Alone, Part, read_name
from .finding import Finding, Inspected, Remedy, Severity

KEY = "pairs"
TITLE = "Without a partner"
ALIKE = 0.8  # of two names, from which on one of them is likely a typing error


def find(piece: Inspected) -> Iterator[Finding]:
    paired, recipe = piece.assembly.paired, piece.assembly.recipe
    levels = [] if recipe.pairing.level else lods_in((part.file, part.name) for part in _parts(piece.assembly))
    if len(levels) > 1:
        names = ", ".join(map(str, levels))
        yield Finding(
            KEY,
            "blocking" if not paired.pairs else "warning",
            "Several levels of detail",
            "",
            len(levels),
            f"Names say the levels {names}; on one sheet they would lie over each other.",
            "Bake one level a piece.",
            Remedy(f"Bake level {levels[0]}", "level", level=str(levels[0])),
        )
        return
    lows = [a for a in paired.alone if a.role in ("low", "self")]
    highs = [a for a in paired.alone if a.role in ("high", "float")]
    if not paired.pairs:
        if lows and highs:
            fix = Remedy("Make it one pair", "together")
            yield Finding(
                KEY,
                "blocking",
                "Nothing is paired",
                "",
                len(lows),
                f"{lows[0].part.name}: {lows[0].reason}.",
                "Rename the parts, pair them by hand, or let every low receive from every high.",
                fix,
            )
        else:
            missing = "high" if lows else "low"
            itself = Remedy("Bake it on its own", "alone") if lows else None
            yield Finding(
                KEY,
                "blocking",
                f"No {missing}",
                "",
                1,
                f"There is no {missing} in this piece.",
                "Add the low-poly mesh." if missing == "low" else "Add the sculpt that belongs to the low.",
                itself,
            )
        return
    for alone in paired.alone:
        yield _one(piece, alone)


def _parts(assembly: Assembly) -> list[Part]:
    """All parts of the piece that are no highs."""
    members = [(role, part) for pair in assembly.paired.pairs for role, part in pair.members]
    members += [(alone.role, alone.part) for alone in assembly.paired.alone]
    return [part for role, part in members if role in ("low", "self", "")]


def _called_alike(piece: Inspected, alone: Alone) -> Alone | None:
    """The part without a partner, low for a high and high for a low, whose name is likely meant to be this one's."""
    kinds: list[tuple[str, ...]] = [("low", "self"), ("high", "float")]
    wanted = next((kinds[1 - n] for n, kind in enumerate(kinds) if alone.role in kind), ())
    pairing = piece.assembly.recipe.pairing
    readings = read_name(alone.part.name, pairing)
    others = {
        read[0].stem: a
        for a in piece.assembly.paired.alone
        if a.role in wanted and (read := read_name(a.part.name, pairing))
    }
    if not readings:
        return None
    swapped = [stem for stem in others if sorted(stem) == sorted(readings[0].stem)]  # letters in another order
    close = swapped or get_close_matches(readings[0].stem, list(others), 1, ALIKE)
    return others[close[0]] if close else None


def _one(piece: Inspected, alone: Alone) -> Finding:
    word = {"low": "Low", "self": "Low", "high": "High", "float": "Floater", "cage": "Cage"}.get(alone.role, "Part")
    remedy = "Rename it, or drag it to a pair."
    fix = None
    if alone.role == "low":
        fix = Remedy("Bake it onto itself", "own_source", alone.part.file, alone.part.name)
    other = _called_alike(piece, alone)
    if other:
        low, high = (alone, other) if alone.role in ("low", "self") else (other, alone)
        remedy = f"It is called almost like {other.part.name}: pair the two, or rename one of them."
        stem = read_name(low.part.name, piece.assembly.recipe.pairing)[0].stem
        fix = Remedy(f"Pair it with {other.part.name}", "pair", high.part.file, high.part.name, pair=stem)
    severity: Severity = "note" if alone.role in ("cage", "") else "warning"
    what = f"{alone.part.name} takes no part in the bake: {alone.reason}."
    mesh = take(piece.assembly.files[alone.part.file], (alone.part.name,))
    marks = marks_of(mesh, np.ones(len(mesh.triangles), np.bool_), None, False)
    return Finding(KEY, severity, f"{word} without a partner", alone.part.key, 1, what, remedy, fix, marks)
