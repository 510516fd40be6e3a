"""One layer of a sheet blended into another."""

import numpy as np

from ..base.array_types import F32, AnyArray


def blended(one: AnyArray, other: AnyArray, weight: F32) -> AnyArray:
    """A layer (H, W, ...) with `other` by its weight (H, W); whole numbers are names, of which the heavier is taken."""
    if one.dtype.kind in "iu":
        taken = weight >= 0.5
        return np.where(taken.reshape(taken.shape + (1,) * (one.ndim - 2)), other, one)
    w = weight.reshape(weight.shape + (1,) * (one.ndim - 2))
    return np.asarray(np.where(w > 0, (1 - w) * one + w * other, one), one.dtype)
