"""Lows that are not triangulated: the receiver may cut their polygons another way than the bake."""

from collections.abc import Iterator

import numpy as np

from .finding import Finding, Inspected, plural

KEY = "polygons"
TITLE = "Not triangulated"


def find(piece: Inspected) -> Iterator[Finding]:
    for low in piece.lows:
        rows = low.mesh.polygons
        if rows is None or not len(rows):
            continue
        _, place, uses = np.unique(rows, return_inverse=True, return_counts=True)
        cut = uses[place] > 1
        count = int((uses > 1).sum())
        if count:
            yield Finding(
                KEY,
                "note",
                TITLE,
                low.part.key,
                count,
                f"{plural(count, 'polygon')} of {low.part.name} were cut here, quads along their shorter diagonal. "
                "Another program may cut them the other way, and shading would differ.",
                "Use the triangulated low of the handoff, or triangulate before export.",
                marks=low.marks(cut),
            )
