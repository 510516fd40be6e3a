"""Light: what a sun, a sky and lamps give, with shadows, and what is reflected of it.

The layer holds linear RGB, straight and reflected; see `light_paths` for what 1 is.
"""

import numpy as np

from ..base.array_types import F64, AnyArray
from ..base.color_space import light_of
from ..base.progress import Cancel, ShareDone
from ..cast.context import Context
from ..cast.hits import Hits
from ..settings.lights_in_words import lamps_in
from ..settings.recipe import Recipe
from .carried import by_material, colors_of
from .emission import light_shown
from .light_paths import Lights, PathScene, PathSettings, denoised_layer, surroundings_of, trace_paths
from .panorama import panorama_of, parted
from .value_range import Derived

KEY, LABEL = "light", "Light"
REASON = "Sun, sky and lamps with their shadows, and what is reflected of them."
LAYER, GROUP, SPACE = "light", "light", "sRGB"
BACKGROUND = (0.0, 0.0, 0.0)


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 3) float32, encoded for storage. Facts: the light that is white, and the share beyond."""
    assert layer is not None
    straight, bounced = layer[..., :3], layer[..., 3:]
    shown = {"all": lambda: straight + bounced, "direct": straight.copy, "bounced": bounced.copy}
    return light_shown(shown[context.recipe.light.shows](), context.cast.struck, context.recipe.light.white)


CHANNELS, KIND = 6, np.float32


def cost(recipe: Recipe) -> float:
    return recipe.light.rays * (1 + recipe.light.bounces) / recipe.sheet.samples


def prepare(context: Context) -> tuple[PathScene, Lights]:
    mesh, own = context.sculpt.mesh, context.recipe.light
    dark = by_material(mesh, np.zeros((len(mesh.material_names), 3), np.float32), (None,) * len(mesh.material_names))
    return PathScene(surroundings_of(context, own.surroundings), colors_of(mesh), dark), lights_of(context.recipe)


def lights_of(recipe: Recipe) -> Lights:
    """What the settings light a piece with. Raises InputProblem for a panorama that cannot be read."""
    own = recipe.light
    turn, height = np.radians(own.sun_turn), np.radians(own.sun_height)
    way = [np.sin(turn) * np.cos(height), np.sin(height), np.cos(turn) * np.cos(height)]
    sun = np.array([*way, np.sin(np.radians(min(own.sun_size, 180.0) / 2)), *_light(own.sun_color, own.sun)])
    lamps = np.array([[*lamp.place, *_light(lamp.color, lamp.strength)] for lamp in lamps_in(own.lamps)])
    above, below = (tuple(_light(color, own.sky).tolist()) for color in (own.sky_color, own.ground_color))
    panorama, bright = panorama_of(recipe), np.zeros((0, 7))
    if panorama is not None:
        panorama, bright = parted(panorama * np.float32(own.sky))
    return Lights(sun, lamps.reshape(-1, 6), above, below, panorama, bright)


def _light(color: str, strength: float) -> F64:
    return light_of(color).astype(np.float64) * strength


def gather(
    context: Context, hits: Hits, ready: tuple[PathScene, Lights], out: AnyArray, progress: ShareDone, cancelled: Cancel
) -> None:
    own = context.recipe.light
    paths = PathSettings(own.rays, own.noise, own.bounces, 1e30, salt=4, of_low=own.normals == "low")
    trace_paths(context, hits, *ready, paths, own.surroundings, out, progress, cancelled)


def finish(context: Context, out: AnyArray, progress: ShareDone, cancelled: Cancel) -> AnyArray | None:
    """The layer denoised_layer, if the recipe says so."""
    return denoised_layer(context, out, progress, cancelled) if context.recipe.light.denoise else None
