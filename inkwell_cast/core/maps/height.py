"""Height: how far the sculpt stands off the low along the rays; mid-grey is the low's surface."""

from ..arrays import Any_
from ..ground import Ground
from .derived import Derived, signed

KEY, LABEL = "height", "Height"
REASON = "How far the sculpt stands off the low: white outside, black inside, mid-grey on it."
RAW, GROUP, SPACE = "", "height", "linear"
BACKGROUND = (0.5,)


def derive(ground: Ground, raw: Any_ | None) -> Derived:
    """(H, W, 1) float32: 0.5 + h / (2 h_max). Facts: h_max in scene units, and the share of texels beyond it."""
    image, facts = signed(ground.cast.height, ground.cast.struck, ground.recipe.height.range, 100.0)
    return Derived(image, facts | {"unit": "scene units"}, ground.cast.height[..., None].copy)
