"""Hard edges of the low that are no UV seam: the map cannot hold both sides, so a line shows."""

from collections.abc import Iterator

import numpy as np

from ..base.array_types import F32, Bool
from ..mesh.adjacency import Edges, differs_across, seams_of
from .finding import Finding, Inspected, Remedy, plural

KEY = "hard_edges"
TITLE = "Hard edge without a seam"
HARD = float(2 * np.sin(np.radians(2) / 2))  # normals that lean apart by two degrees


def hard_inside_islands(normals: F32, uvs: F32, edges: Edges) -> Bool:
    """Edges (T, 3) at which normals (T, 3, 3) part and UVs (T, 3, 2) do not."""
    return differs_across(normals, edges, HARD) & ~seams_of(uvs, edges)


def find(piece: Inspected) -> Iterator[Finding]:
    for low in piece.lows:
        if low.uvs is None or low.mesh.normals is None:
            continue
        hard = hard_inside_islands(low.mesh.normals.at_corners(), low.uvs, low.edges)
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
