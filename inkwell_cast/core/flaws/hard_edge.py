"""Hard edge without a seam: texels beside it are read from both sides, and no value of theirs is right for both."""

import numpy as np

from ..base.array_types import I64
from ..base.figures import figure
from ..checks.hard_edges import hard_inside_islands
from ..mesh.adjacency import edges_of
from . import offered_mends
from .flaw import Explanation, FlawRows
from .places_on_edges import places_on_edges
from .texel_rows import TexelRows

KEY, TITLE = "hard_edge", "Hard edge without a seam"
BY_PART = WHOLE_SHEET = True  # the best on this low suffers from it, too; one setting cures a part
WORSE = 3.0  # degrees by which a row beside such an edge looks worse than its part does in the mean


def find(seen: TexelRows) -> FlawRows:
    """Rows beside hard edges inside islands that look worse than their part."""
    low, channel = seen.context.assembly.low, seen.context.recipe.sheet.channel
    assert low.normals is not None
    hard = hard_inside_islands(low.normals.at_corners(), low.uvs[channel].at_corners(), edges_of(low))
    hard &= np.isin(np.arange(len(hard)), seen.context.low.triangles)[:, None]
    if not hard.any():
        return FlawRows(np.zeros(0, np.int64), lambda region: Explanation("", ""), np.zeros(0))
    rows, _ = places_on_edges(seen, hard).rows_beside(seen)
    parts = low.objects[seen.context.low.triangles[seen.triangle]]
    weight = seen.looks.pixels
    usual = np.bincount(parts, seen.looks.angle * weight) / np.maximum(np.bincount(parts, weight), 1e-9)
    error = seen.looks.angle[rows] - usual[parts[rows]]
    wrong = error > WORSE
    rows, error = rows[wrong], error[wrong]

    def tell(region: I64) -> Explanation:
        worse = float(np.median(error[region]))
        wide = figure(float(np.median(seen.size[rows[region]])))
        return Explanation(
            f"Normals of the low part at edges inside an island. Texels beside them, {wide} wide, are read by both "
            f"faces; a line shows there, {worse:.0f}° off.",
            "Cut the UVs at these edges, or make them soft.",
            lambda spot: [offered_mends.fix(spot, "Split normals at UV seams only", "split_at_seams", [spot.part])],
        )

    return FlawRows(rows, tell, error)
