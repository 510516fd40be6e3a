"""Wavy outline: the low turns a round form into few faces, and no map hides the corners of its outline."""

import numpy as np

from ..base.array_types import I64
from ..cast.sheet_surroundings import unit_normals
from .flaw import Explanation, Found, length
from .texel_rows import Seen

KEY, TITLE = "wavy", "Wavy outline"
BY_PART = True  # what cures it is a finer low, not a change here or there
CORNER = 15.0  # degrees between shading and face beside an edge: half of what the outline turns by there
ROUND = 0.5  # of that: how closely the sculpt must follow the shading, to be round and not flat with a hard edge
DEEP = 0.004  # of the low's diagonal: how far the sculpt stands off the faces there
SOFT = 6.0  # degrees: beside which corners no longer show
SHOWS = 0.25  # of the angle: a map hides it everywhere but on the outline


def find(seen: Seen) -> Found:
    """Texels beside edges whose corners the outline shows, where the sculpt is round and stands off the low."""
    context = seen.context
    normal = unit_normals(context)[seen.y, seen.x].astype(np.float64)
    flat = np.degrees(np.arccos(np.clip(np.einsum("nc,nc->n", normal, seen.normal), -1, 1)))
    follows = np.abs(flat - seen.strain) < ROUND * seen.strain
    deep = np.abs(seen.height) > DEEP * context.assembly.low.diagonal
    rows = np.flatnonzero((seen.struck > 0) & (seen.strain > CORNER) & follows & deep)

    def tell(region: I64) -> Explanation:
        at = rows[region]
        faces = np.isin(seen.triangle, np.unique(seen.triangle[at]))  # to their edges, where the sculpt meets them
        bend, off = 2 * float(seen.strain[faces].max()), float(np.abs(seen.height[at]).max())
        more = int(np.ceil(bend / (2 * SOFT)))
        return Explanation(
            f"Faces of the low meet at about {bend:.0f}° where the sculpt is round, and it stands up to {length(off)} "
            "off them: the outline shows their corners.",
            f"Give the low {more} edges here for every one; no setting of a bake can round an outline.",
        )  # fmt: skip

    return Found(rows, SHOWS * seen.strain[rows].astype(np.float64), tell)
