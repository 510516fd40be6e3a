"""Copies that show the map of another part, and have no sculpt at their own place."""

from collections.abc import Iterator

import numpy as np

from .finding import Finding, Inspected, plural

KEY = "copies"
TITLE = "Copies without a sculpt of their own"


def find(piece: Inspected) -> Iterator[Finding]:
    """One note for each part that has some."""
    for low in piece.lows:
        copies = np.unique(low.copies[low.copies >= 0])
        if len(copies):
            yield Finding(
                KEY,
                "note",
                TITLE,
                low.part.key,
                len(copies),
                f"{plural(len(copies), 'copy', 'copies')} in {low.part.name} with the UVs of what has a sculpt: the map "
                "of that is shown there. No sculpt lies at their own place, so they take no part in checks, coverage, "
                "likeness and flaws.",
                "Nothing, if you meant it; else give them places of their own in the UVs, and a sculpt.",
                marks=low.marks(~low.judged),
            )
