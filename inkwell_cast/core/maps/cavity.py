"""Cavity: dark in grooves and creases, as fine as the sculpt."""

from ..arrays import Any_
from ..ground import Ground
from .curvature import PERCENTILE
from .derived import Derived, one_sided

KEY, LABEL = "cavity", "Cavity"
REASON = "Grooves and creases alone, as fine as the sculpt, dark on white."
RAW, GROUP, SPACE = "cavity", "cavity", "linear"
BACKGROUND = (1.0,)


def derive(ground: Ground, raw: Any_ | None) -> Derived:
    """(H, W, 1) float32: 1 less the concave part of the finest curvature over what is full."""
    assert raw is not None
    image, facts = one_sided(-raw[..., 0], ground.cast.struck, ground.recipe.cavity.strength, PERCENTILE)
    return Derived(1 - image, facts | {"black": facts["white"], "white": 0.0, "unit": "1 / scene unit"}, raw.copy)
