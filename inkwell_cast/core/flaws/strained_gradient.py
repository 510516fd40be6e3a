"""Strained gradient: the low's shading leans so far from its faces that the map must undo it everywhere."""

import numpy as np

from ..base.array_types import I64
from .flaw import Explanation, FlawRows
from .texel_rows import TexelRows

KEY, TITLE = "strained", "Strained gradient"
BY_PART = True  # it is the low that bends too sharply, not a place
STRAIN = 60.0  # degrees between shading normal and face: from here on rounding counts more than twice


def find(seen: TexelRows) -> FlawRows:
    """Texels where the low's interpolated normal leans from its face by more than `STRAIN`."""
    rows = np.flatnonzero(seen.strain > STRAIN)

    def tell(region: I64) -> Explanation:
        steep = seen.strain[rows[region]]
        return Explanation(
            f"The low's shading leans {steep.mean():.0f}° from its faces in the mean, up to {steep.max():.0f}°; the "
            "map must undo that, and its rounding shows.",
            "Make the sharpest edges of the low hard and cut its UVs there, or add a loop of edges; weighting normals "
            "by face area helps where faces differ in size.",
        )

    return FlawRows(rows, tell)
