"""A map that was made elsewhere looks wrong here: the place can be told, the cause lies with what made it."""

import numpy as np

from ..base.array_types import I64
from .flaw import Explanation, FlawRows
from .texel_rows import TexelRows

KEY, TITLE = "elsewhere", "This map looks wrong"


def find(seen: TexelRows) -> FlawRows:
    """All texels."""

    def tell(region: I64) -> Explanation:
        wrong, whole = float(np.median(seen.looks.excess[region])), float(np.median(seen.looks.angle[region]))
        return Explanation(
            f"It is {whole:.0f}° off the sculpt here, {wrong:.0f}° more than projection could leave on this low.",
            "Bake the piece here, or look in what made this map for its ray distance, its basis and its meshes.",
        )

    return FlawRows(np.arange(len(seen.x)), tell)
