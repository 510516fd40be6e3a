"""Curvature: bright on convex ground, dark in grooves."""

from ..arrays import F32, Any_
from ..ground import Ground
from .derived import Derived, one_sided, signed

KEY, LABEL = "curvature", "Curvature"
REASON = "How strongly the sculpt bends, evened out within a radius."
RAW, GROUP, SPACE = "curvature", "curvature", "linear"
BACKGROUND = (0.5,)
PERCENTILE = 98.0


def derive(ground: Ground, raw: Any_ | None) -> Derived:
    """(H, W, 1) float32; see `map_settings.Curvature`. Facts: its range in 1 / scene units."""
    assert raw is not None
    own, struck = ground.recipe.curvature, ground.cast.struck
    values: F32 = raw[..., 0]
    if own.signs == "both":
        image, facts = signed(values, struck, own.strength, PERCENTILE)
    else:
        image, facts = one_sided(values if own.signs == "convex" else -values, struck, own.strength, PERCENTILE)
    return Derived(image, facts | {"unit": "1 / scene unit", "signs": own.signs}, raw.copy)
