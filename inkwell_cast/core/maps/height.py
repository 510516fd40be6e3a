"""Height: how far the sculpt stands off the low along the rays; mid-grey is the low's surface."""

from ..base.array_types import AnyArray
from ..cast.context import Context
from .value_range import Derived, signed

KEY, LABEL = "height", "Height"
REASON = "How far the sculpt stands off the low: white outside, black inside, mid-grey on it."
LAYER, GROUP, SPACE = "", "height", "linear"
BACKGROUND = (0.5,)


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 1) float32: 0.5 + h / (2 h_max). Facts: h_max in scene units, and the share of texels beyond it."""
    image, facts = signed(context.cast.height, context.cast.struck, context.recipe.height.range, 100.0)
    return Derived(image, facts | {"unit": "scene units"}, context.cast.height[..., None].copy)
