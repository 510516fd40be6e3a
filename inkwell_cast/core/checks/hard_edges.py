"""Hard edges of the low that are no UV seam: the map cannot hold both sides, so a line shows."""

from collections.abc import Iterator

import numpy as np

from ..mesh.adjacency import differs_across
from .finding import Finding, Inspected, Remedy, plural

KEY = "hard_edges"
TITLE = "Hard edge without a seam"
HARD = float(2 * np.sin(np.radians(2) / 2))  # normals that lean apart by two degrees


def find(piece: Inspected) -> Iterator[Finding]:
    for low in piece.lows:
        if low.uvs is None or low.mesh.normals is None:
            continue
        hard = differs_across(low.mesh.normals.at_corners(), low.edges, HARD) & ~low.seams
        count = int(hard.sum()) // 2
        if count:
            yield Finding(
                KEY,
                "warning",
                TITLE,
                low.part.key,
                count,
                f"{plural(count, 'edge')} of {low.part.name} hard but inside an island: a line will show there.",
                "Cut the UVs there, or make the edges soft.",
                Remedy("Split normals at UV seams only", "split_at_seams", low.part.file, low.part.name),
                marks=low.marks(hard),
            )
