"""What occludes: scenes that rays strike from both sides, floaters apart."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..base.array_types import Any_
from ..piece.piece import Assembly
from ..piece.scene_cache import Slot, Warm
from ..piece.sculpt import Sculpt
from ..rays.embree import Scene, Vertices, blockers_of, tracers_of
from .context import Context

OCCLUDERS = {which: Slot["Occluders"]() for which in ("pair", "piece", "all", "everything", "floaters", "low")}


@dataclass(frozen=True, slots=True)
class Occluders:
    """tracers and blockers (P, 2) uint64, a row a pair."""

    tracers: Any_
    blockers: Any_


def occluders_on(context: Context, which: str) -> Occluders:
    """Those of a piece, kept for the next layer and the next bake."""
    return kept_occluders(context.assembly, context.sculpt, context.warm, which)


def kept_occluders(assembly: Assembly, sculpt: Sculpt, warm: Warm, which: str) -> Occluders:
    """The same before there is a bake."""
    if which == "everything" and len(assembly.paired.pairs) == 1:
        which = "all"  # the same scene
    floats = sorted(part.key for pair in assembly.paired.pairs for part in pair.floats)
    key = f"{assembly.digest()} {sculpt.serial} {floats}"
    return warm.once(OCCLUDERS[which], key, lambda: occluders_of(assembly, sculpt, which, warm.stopped))


def occluders_of(
    assembly: Assembly, sculpt: Sculpt, which: str, cancelled: Callable[[], bool] = lambda: False
) -> Occluders:
    """Scenes for the rays of every pair.

    Of its "pair" or the whole "piece" without their floaters, "all" of the pair, "everything" of the whole piece, its
    "floaters", or of the "low" meshes alone.
    """
    count = len(assembly.paired.pairs)
    if which == "low":
        low = Scene(Vertices(assembly.low.positions), assembly.low.triangles, both_sides=True, cancelled=cancelled)
        return _told([low] * count)
    mesh, vertices = sculpt.mesh, sculpt.scenes[0].vertices
    if which == "everything":
        return _told([Scene(vertices, mesh.triangles, both_sides=True, cancelled=cancelled)] * count)
    floats = {part.key for pair in assembly.paired.pairs for part in pair.floats}
    solid = np.array([key not in floats for key in sculpt.keys])[mesh.objects]
    if which == "piece":
        return _told([Scene(vertices, mesh.triangles[solid], both_sides=True, cancelled=cancelled)] * count)
    if which == "floaters":
        solid = ~solid
    elif which == "all":
        solid[:] = True
    scenes = []
    for first, last in zip(sculpt.first[:-1].tolist(), sculpt.first[1:].tolist(), strict=True):
        scenes.append(
            Scene(vertices, mesh.triangles[first:last][solid[first:last]], both_sides=True, cancelled=cancelled)
        )
    return _told(scenes)


def _told(scenes: list[Scene]) -> Occluders:
    return Occluders(tracers_of(scenes), blockers_of(scenes))
