"""Bent normal: the mean free direction of the occlusion rays, in the low's tangent basis."""

from ..arrays import F32, Any_
from ..ground import Ground
from .derived import Derived
from .normal import BACKGROUND, encoded

__all__ = ["BACKGROUND"]

KEY, LABEL = "bent", "Bent normal"
REASON = "Where light comes from most freely, in the low's tangent basis; from the rays of the occlusion."
RAW, GROUP, SPACE = "occlusion", "occlusion", "linear"


def derive(ground: Ground, raw: Any_ | None) -> Derived:
    """(H, W, 3) float32: 0.5 x + 0.5; where no ray is free, or none struck, the low's own normal."""
    assert raw is not None
    free: F32 = raw[..., 1:]
    open_ = ((free * free).sum(axis=2) > 1e-12).astype(ground.cast.struck.dtype)
    return Derived(encoded(ground.cast, ground.low, ground.recipe.basis, free, open_))
