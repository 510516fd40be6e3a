"""Emission: what glows on the sculpt, carried over as light.

The layer holds linear RGB, beyond 1 where it is strong; the picture is that of a white, stored as sRGB.
"""

from dataclasses import replace

import numpy as np

from ..base.array_types import F32, AnyArray
from ..base.color_space import light_of, to_srgb
from ..base.disk_arrays import in_bands
from ..base.errors import InputProblem
from ..base.progress import Cancel, ShareDone
from ..cast.context import Context
from ..cast.hits import Hits
from ..mesh.mesh import Mesh
from ..settings.lights_in_words import Glowing, glowing_in
from ..settings.recipe import Recipe
from .carried import CarriedColors, by_material, gather_carried
from .value_range import Derived, automatic

KEY, LABEL = "emission", "Emission"
REASON = "What glows on the sculpt, by its materials or by names; floats hold it beyond 1."
LAYER, GROUP, SPACE = "emission", "emission", "sRGB"
BACKGROUND = (0.0, 0.0, 0.0)


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 3) float32, encoded for storage. Facts: the light that is white, and the share beyond."""
    assert layer is not None
    return light_shown(layer, context.cast.struck, context.recipe.emission.white)


def light_shown(light: F32, struck: AnyArray, white: float | str) -> Derived:
    """Linear light (H, W, 3) as a picture: 0 is black, `white` white ("auto" for the 99.8th percentile), as sRGB."""
    there = light[struck > 0].max(axis=1, initial=0)
    lit = there[there > 0]
    top = automatic(lit, 99.8) if white == "auto" else float(white)
    scale = np.float32(1 / top)
    picture = in_bands(lambda rows: to_srgb(np.clip(rows * scale, 0, 1)), light, 3)
    beyond = float((there > 1.0001 * top).mean()) if len(there) else 0.0
    facts = {"black": 0.0, "white": top, "unit": "of the light that makes white white", "clipped_share": beyond}
    return Derived(picture, facts, light.copy)


CHANNELS, KIND = 3, np.float32


def cost(recipe: Recipe) -> float:
    return 0.1


def prepare(context: Context) -> CarriedColors:
    return sent_by(context)


def sent_by(context: Context) -> CarriedColors:
    """What the sculpt sends out: what its materials say, or the names that the recipe gives. Raises InputProblem."""
    mesh, words = context.sculpt.mesh, context.recipe.emission.glowing
    if not words:
        return by_material(mesh, mesh.emission_colors, mesh.emission_textures)
    chosen = glowing_in(words)
    _refuse_unknown(chosen, mesh)
    entry = np.zeros(len(mesh.triangles), np.int32)  # by triangle: objects part what materials do not
    lights = np.zeros((len(chosen) + 1, 3), np.float32)
    for n, own in enumerate(chosen, 1):
        entry[_of_name(mesh, own.name)] = n
        lights[n] = light_of(own.color) * np.float32(own.strength)
    none = (None,) * len(lights)
    glowing = replace(mesh, materials=entry, material_names=("",) * len(lights), textures=none, emission_textures=none)
    return by_material(glowing, lights, none)


def _of_name(mesh: Mesh, name: str) -> AnyArray:
    """Whether each triangle is of a material or an object of this name, (T,) bool."""
    by = [(mesh.materials, mesh.material_names), (mesh.objects, mesh.object_names)]
    marked = [np.array([called.casefold() == name.casefold() for called in names])[rows] for rows, names in by]
    return marked[0] | marked[1]


def _refuse_unknown(chosen: list[Glowing], mesh: Mesh) -> None:
    known = {name.casefold() for name in (*mesh.material_names, *mesh.object_names) if name}
    for own in chosen:
        if own.name.casefold() not in known:
            there = ", ".join(name for name in dict.fromkeys([*mesh.material_names, *mesh.object_names]) if name)
            raise InputProblem(
                "What glows",
                f"No material and no object of the sculpt is called {own.name}.",
                f"It has: {there[:300]}.",
            )


def gather(
    context: Context, hits: Hits, ready: CarriedColors, out: AnyArray, progress: ShareDone, cancelled: Cancel
) -> None:
    gather_carried(context, hits, ready, out, progress, cancelled)
