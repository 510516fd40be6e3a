"""Glow: the light that texels receive from what glows on the sculpt.

The layer holds linear RGB, straight and reflected. A texel that sees nothing but a surface that sends 1 receives 1.
"""

import numpy as np

from ..base.array_types import AnyArray
from ..base.progress import Cancel, ShareDone
from ..base.setting import scene_units
from ..cast.context import Context
from ..cast.hits import Hits
from ..settings.recipe import Recipe
from .carried import colors_of
from .emission import light_shown, sent_by
from .light_paths import Lights, PathScene, PathSettings, denoised_layer, surroundings_of, trace_paths
from .value_range import Derived

KEY, LABEL = "glow", "Glow"
REASON = "The light that falls on the surroundings of what glows, by rays."
LAYER, GROUP, SPACE = "glow", "glow", "sRGB"
BACKGROUND = (0.0, 0.0, 0.0)


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 3) float32, encoded for storage. Facts: the light that is white, and the share beyond."""
    assert layer is not None
    return light_shown(layer[..., :3] + layer[..., 3:], context.cast.struck, context.recipe.glow.white)


CHANNELS, KIND = 6, np.float32


def cost(recipe: Recipe) -> float:
    return recipe.glow.rays * (1 + recipe.glow.bounces) / recipe.sheet.samples


def prepare(context: Context) -> PathScene:
    mesh = context.sculpt.mesh
    return PathScene(surroundings_of(context, context.recipe.glow.surroundings), colors_of(mesh), sent_by(context))


def gather(
    context: Context, hits: Hits, ready: PathScene, out: AnyArray, progress: ShareDone, cancelled: Cancel
) -> None:
    own = context.recipe.glow
    far = own.distance * scene_units(own.unit, context.assembly.low.diagonal) or 1e30
    paths = PathSettings(own.rays, own.noise, own.bounces, far, salt=3)
    trace_paths(context, hits, ready, Lights(), paths, own.surroundings, out, progress, cancelled)


def finish(context: Context, out: AnyArray, progress: ShareDone, cancelled: Cancel) -> AnyArray | None:
    """The layer denoised_layer, if the recipe says so."""
    return denoised_layer(context, out, progress, cancelled) if context.recipe.glow.denoise else None
