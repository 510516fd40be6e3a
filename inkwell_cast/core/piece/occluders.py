"""What occludes: scenes that rays strike from both sides, floaters apart.

Those that only shade are not watertight: a ray that slips through just at an edge is one of millions, and rays are a
quarter faster. Those that are looked at are. Where the triangles are the same the scene of the cast is lent; for shade
only where building another would take longer than its rays gain.
"""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from ..base.array_types import I32, AnyArray
from ..base.progress import Cancel
from ..rays.embree import Scene, Vertices, tracers_of
from .piece import Assembly
from .scene_cache import Slot, Warm
from .sculpt import Sculpt

LENT = 0.07  # triangles a ray: to build them takes as long as a watertight scene takes longer to trace it
LOOKED_AT = ("all", "everything")
OCCLUDERS = {which: Slot["Occluders"]() for which in ("pair", "piece", "all", "everything", "floaters", "low")}


@dataclass(frozen=True, slots=True)
class Occluders:
    """tracers (P, 2) uint64, a row a pair."""

    tracers: AnyArray


def kept_occluders(assembly: Assembly, sculpt: Sculpt, warm: Warm, which: str) -> Occluders:
    """Those of a piece that is put together, kept for its next bake."""
    if len(assembly.paired.pairs) == 1:
        which = {"everything": "all", "piece": "pair"}.get(which, which)  # the same scene
    floats = sorted(part.key for pair in assembly.paired.pairs for part in pair.floats)
    key = f"{assembly.shape()} {sculpt.serial} {floats} {lends(assembly, sculpt)}"
    return warm.once(OCCLUDERS[which], key, lambda: occluders_of(assembly, sculpt, which, warm.stopped))


def lends(assembly: Assembly, sculpt: Sculpt) -> bool:
    """Whether rays that only shade are too few for scenes of their own."""
    sheet = assembly.recipe.sheet
    rays = sheet.width * sheet.height * max(assembly.recipe.occlusion.rays, assembly.recipe.thickness.rays)
    return len(sculpt.mesh.triangles) > LENT * rays


def occluders_of(assembly: Assembly, sculpt: Sculpt, which: str, cancelled: Cancel = lambda: False) -> Occluders:
    """Scenes for the rays of every pair.

    Of its "pair" or the whole "piece" without their floaters, "all" of the pair, "everything" of the whole piece, its
    "floaters", or of the "low" meshes alone.
    """
    count = len(assembly.paired.pairs)

    def scene(vertices: Vertices, triangles: I32) -> Scene:
        return Scene(vertices, triangles, True, cancelled, watertight=which in LOOKED_AT)

    if which == "low":
        return _told([scene(Vertices(assembly.low.positions), assembly.low.triangles)] * count)
    mesh, vertices = sculpt.mesh, sculpt.scenes[0].vertices
    if which == "everything":
        return _told([scene(vertices, mesh.triangles)] * count)
    floats = {part.key for pair in assembly.paired.pairs for part in pair.floats}
    solid = np.array([key not in floats for key in sculpt.keys])[mesh.objects]
    if which == "piece":
        return _told([scene(vertices, mesh.triangles[solid])] * count)
    if which == "floaters":
        solid = ~solid
    elif which == "all":
        solid[:] = True
    scenes = []
    own = which in LOOKED_AT or (which == "pair" and lends(assembly, sculpt))
    for pair, (first, last) in enumerate(pairwise(sculpt.first.tolist())):
        if own and solid[first:last].all():
            scenes.append(sculpt.scenes[pair])
        else:
            scenes.append(scene(vertices, mesh.triangles[first:last][solid[first:last]]))
    return _told(scenes)


def _told(scenes: list[Scene]) -> Occluders:
    return Occluders(tracers_of(scenes, both_sides=True))
