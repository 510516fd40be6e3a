"""Copies: parts of a low that have their UVs of another part, and no sculpt at their own place.

Links of a track, mirrored halves, repeated bolts: they show the map of the one that has the sculpt. Nothing can be said
of them by comparing them with the sculpt, so they take no part in what judges.
"""

import numpy as np

from ..base.array_types import F64, I32, I64
from ..mesh.adjacency import edges_of, groups
from ..mesh.mesh import Mesh, corner_positions
from ..rays.nearest_surface import NearestSurface

STEPS = 8192  # of the tile: UVs whose middles fall into one step may be the same
AREA = 0.03  # by which areas of the same UVs differ at most
NEAR = 0.02  # of the sculpt's diagonal: at its own place a low lies about as near to it
MOST = 4.0  # times the distance of the part that has the sculpt, from which another is elsewhere
HALF = 0.5  # of a copy's surface is elsewhere at least


def copies_of(low: Mesh, low_pair: I32, channel: int, highs: list[list[Mesh]]) -> I32:
    """Which copy each triangle of a joined low belongs to, (T,) int32 from 0, -1 for none.

    low_pair (T,) is the pair of each triangle, highs what each pair receives from; channel that of the UVs.
    """
    none = np.full(len(low.triangles), -1, np.int32)
    if channel >= len(low.uvs) or not len(low.triangles):
        return none
    uvs = low.uvs[channel].at_corners().astype(np.float64)
    meshes = [low, *(mesh for of_pair in highs for mesh in of_pair)]
    if not np.isfinite(uvs).all() or not all(np.isfinite(mesh.positions).all() for mesh in meshes):
        return none  # which checks and bakes refuse in words
    first = _first_of_the_same(uvs, low_pair)
    doubled = first != np.arange(len(first))
    if not doubled.any():
        return none
    points = corner_positions(low).astype(np.float64)
    follows, elsewhere = np.zeros((2, len(first)), np.bool_)
    for n, of_pair in enumerate(highs):
        rows = np.flatnonzero(np.isin(first, first[doubled & (low_pair == n)]))
        parts = [(mesh.positions, mesh.triangles) for mesh in of_pair if len(mesh.triangles)]
        if not len(rows) or not parts:
            continue
        surface = NearestSurface.of(parts)
        away, best = surface.at(points[rows].mean(axis=1))[0], np.full(len(first), np.inf)
        np.minimum.at(best, first[rows], away)
        best = best[first[rows]]
        limit = NEAR * float(np.linalg.norm(surface.surface.box[1] - surface.surface.box[0]))
        follows[rows] = away > best
        elsewhere[rows] = (best <= limit) & (away > np.maximum(limit, MOST * best))
    edges = edges_of(low)
    across = edges.across
    group = groups(edges, follows[:, None] & (across >= 0) & follows[np.maximum(across, 0)])
    area = np.linalg.norm(np.cross(points[:, 1] - points[:, 0], points[:, 2] - points[:, 0]), axis=1)
    alone = np.bincount(group, area * elsewhere) > HALF * np.bincount(group, area)
    copied = follows & alone[group]
    none[copied] = np.unique(group[copied], return_inverse=True)[1].reshape(-1)
    return none


def _first_of_the_same(uvs: F64, low_pair: I32) -> I64:
    """The first triangle (T,) of the pair that has the UVs (T, 3, 2) of each within the tile; itself for none."""
    u, v = uvs[:, 1] - uvs[:, 0], uvs[:, 2] - uvs[:, 0]
    area = np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0])
    middle = uvs.mean(axis=1) % 1.0
    steps = np.round(middle * STEPS).astype(np.int64) % STEPS
    _, found, which = np.unique(
        (low_pair.astype(np.int64) * STEPS + steps[:, 0]) * STEPS + steps[:, 1], return_index=True, return_inverse=True
    )
    first, own = found[which.reshape(-1)], np.arange(len(uvs))
    alike = np.abs(area - area[first]) <= AREA * np.maximum(area, area[first])
    return np.where(alike & (area > 1e-12), first, own)
