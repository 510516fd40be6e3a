"""Cavity: dark in grooves and creases, as fine as the sculpt."""

from ..base.array_types import AnyArray
from ..cast.context import Context
from .curvature import PERCENTILE, CurvatureLayer
from .value_range import Derived, one_sided

KEY, LABEL = "cavity", "Cavity"
REASON = "Grooves and creases alone, as fine as the sculpt, dark on white."
LAYER, GROUP, SPACE = "cavity", "cavity", "linear"
BACKGROUND = (1.0,)
GATHERS = CurvatureLayer("cavity")


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 1) float32: 1 less the concave part of the finest curvature over what is full."""
    assert layer is not None
    image, facts = one_sided(-layer[..., 0], context.cast.struck, context.recipe.cavity.strength, PERCENTILE)
    return Derived(1 - image, facts | {"black": facts["white"], "white": 0.0, "unit": "1 / scene unit"}, layer.copy)
