"""Directions in which rays leave the low: averaged over the faces of a corner, or split at hard edges."""

import numpy as np

from ..base.array_types import F32
from ..mesh.adjacency import bends, edges_of, shaded
from ..mesh.normals import averaged
from ..piece.piece import Assembly
from ..rays.along_surface import Ground

BEND = 4.0  # degrees between faces from which on rays of a crease part


def directions_of(assembly: Assembly) -> F32:
    """The directions in which the cage leaves the low's corners, (T, 3, 3) float32, unit.

    Averaged over all faces that meet there, or each face's own where the recipe splits them at hard edges.
    """
    directions = _uncreased(assembly)
    return _creased(assembly, directions) if assembly.recipe.creases and len(directions) else directions


def _uncreased(assembly: Assembly) -> F32:
    low, split = assembly.low, assembly.split
    if not split.any() or low.normals is None:
        return averaged(low)
    corner_normals = np.ascontiguousarray(low.normals.at_corners())
    return corner_normals if split.all() else np.where(split[low.objects][:, None, None], corner_normals, averaged(low))


def _creased(assembly: Assembly, directions: F32) -> F32:
    """The directions with the recipe's creases: at corners in their patches split at every bend, or averaged."""
    low, edges = assembly.low, edges_of(assembly.low)
    ways = {"split": shaded(low, edges, bends(low, edges) > BEND, False), "averaged": averaged(low)}
    ground = Ground(low)
    for crease in assembly.recipe.creases:
        inside = ground.around(crease.centre, crease.radius).corners(len(directions)) <= crease.radius
        directions = np.where(inside[..., None], ways[crease.directions], directions)
    return np.ascontiguousarray(directions, np.float32)
