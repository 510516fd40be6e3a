"""The shade of floaters alone, which the occlusion leaves out: as much as they hide of the sky above a texel."""

import numpy as np

from ..arrays import Any_
from ..cast import Hits
from ..ground import Ground
from ..occluders import Occluders, occluders_on
from ..recipe import Recipe
from . import occlusion
from .texels import Cancel, Progress

CHANNELS, KIND = 1, np.float32


def depends(recipe: Recipe) -> object:
    return recipe.occlusion.model_dump(exclude={"denoise", "occluders"})


def cost(recipe: Recipe) -> float:
    return recipe.occlusion.rays / recipe.sheet.samples


def prepare(ground: Ground) -> Occluders | None:
    """The floaters of every pair; None where there are none."""
    floats = any(pair.floats for pair in ground.assembly.paired.pairs)
    return occluders_on(ground, "floaters") if floats else None


def gather(
    ground: Ground, hits: Hits, ready: Occluders | None, out: Any_, progress: Progress, cancelled: Cancel
) -> None:
    if ready is not None:
        occlusion.look_around(ground, hits, "floaters", ready, out, progress, cancelled)
