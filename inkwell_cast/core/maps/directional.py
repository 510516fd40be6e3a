"""Directional: how far the sculpt faces a way, or how far along it a texel lies; dust, snow and wear begin with it."""

import numpy as np

from ..base.array_types import AnyArray
from ..base.disk_arrays import in_bands
from ..cast.context import Context
from ..settings.directions import way_in
from . import normal_object, position
from .value_range import Derived

KEY, LABEL = "directional", "Directional"
REASON = "White where the sculpt faces a way, or lies far along it, in the axes of the file."
LAYER, GROUP, SPACE = "position", "directional", "linear"
BACKGROUND = (0.0,)


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 1) float32. Facts: what is black and white, a cosine, or a place along the way in scene units."""
    assert layer is not None
    own = context.recipe.directional
    way = np.array(way_in(own.way))
    if own.by == "facing":
        black, white = own.middle - 1 / own.sharpness, own.middle + 1 / own.sharpness
        normals = normal_object.derive(context, None).image
        along = in_bands(lambda rows: ((2 * rows - 1) @ way)[..., None].astype(np.float32), normals, 1)
        unit = "cosine of the angle to the way"
    else:
        low, high = position.box_of(context.sculpt, context.warm)
        corners = np.array([low, high], np.float64)
        ends = np.where(way >= 0, corners, corners[::-1]) @ way  # of the box, where it ends along the way
        middle, half = ends.mean() + own.middle * np.ptp(ends) / 2, np.ptp(ends) / 2 / own.sharpness
        black, white = middle - half, middle + half
        along = in_bands(lambda rows: (rows @ way)[..., None].astype(np.float32), layer, 1)
        unit = "scene units"
    span = np.float32(max(white - black, 1e-30))
    image = in_bands(lambda rows: np.clip((rows - np.float32(black)) / span, 0, 1), along, 1)
    image[context.cast.covered == 0] = 0
    return Derived(image, {"black": float(black), "white": float(white), "unit": unit})
