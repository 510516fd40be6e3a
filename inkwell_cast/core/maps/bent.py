"""Bent normal: the mean free direction of the occlusion rays, in the low's tangent basis."""

from ..base.array_types import F32, AnyArray
from ..cast.context import Context
from .normal import BACKGROUND, encoded
from .value_range import Derived

__all__ = ["BACKGROUND"]

KEY, LABEL = "bent", "Bent normal"
REASON = "Where light comes from most freely, in the low's tangent basis; from the rays of the occlusion."
LAYER, GROUP, SPACE = "occlusion", "occlusion", "linear"


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 3) float32: 0.5 x + 0.5; where no ray is free, or none struck, the low's own normal."""
    assert layer is not None
    free: F32 = layer[..., 1:]
    open_ = ((free * free).sum(axis=2) > 1e-12).astype(context.cast.struck.dtype)
    return Derived(encoded(context.cast, context.low, context.recipe.basis, free, open_))
