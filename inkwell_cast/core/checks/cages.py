"""Cage meshes that do not match their low."""

from collections.abc import Iterator

import numpy as np

from ..cage import matches, pattern_of
from .finding import Finding, Inspected

KEY = "cages"
TITLE = "Cage does not match its low"


def find(piece: Inspected) -> Iterator[Finding]:
    a = piece.assembly
    for n, (pair, cage) in enumerate(zip(a.paired.pairs, a.cages, strict=True)):
        if cage is None:
            continue
        rows = a.low_pair == n
        if matches(cage, pattern_of(a.low, rows)):
            continue
        faces = len(cage.triangles), int(rows.sum())
        how = (
            f"it has {faces[0]:,} triangles, the low {faces[1]:,}"
            if faces[0] != faces[1]
            else "its faces use other vertices"
        )
        yield Finding(
            KEY, "warning", TITLE, pair.cages[0].key, abs(faces[0] - faces[1]) or int(np.count_nonzero(rows)),
            f"The cage of {pair.name} cannot be laid on its low point by point: {how}. The pair bakes from its reach.", "Export the cage again from the low as it is now.",
        )  # fmt: skip
