"""Nudges: strokes of a brush in space, made ready for the triangles of a low.

A stroke is a line of points with a radius. Where it lies on the low it takes the cage out or in, draws it to its mean
reach around the stroke, turns rays to the faces that they leave from, or takes back what earlier strokes did. It knows
nothing of vertices or UVs, so it stays when those change.
"""

from collections.abc import Callable
from dataclasses import replace

import numba
import numpy as np
from scipy.spatial import cKDTree

from ...base.array_types import F32, F64
from ...mesh.surface_samples import spread_over
from ...settings.regions import Stroke
from ..ray import Rays, reach_at
from .blocks import KINDS, SMOOTH
from .special import Nudges, no_nudges

MIRRORED = {"none": (1, 1, 1), "x": (-1, 1, 1), "y": (1, -1, 1), "z": (1, 1, -1)}
PROBES = 40_000  # places on the low at which a smoothing stroke measures the reach
FEWEST = 6


def nudges_of(strokes: list[Stroke], points: F32, through: Callable[[Nudges], Rays]) -> Nudges:
    """The strokes for triangles (P, 3, 3); `through(nudges)` gives their rays, on which smoothing measures reach."""
    found = no_nudges(len(points))
    if not strokes:
        return found
    numbers = np.array([(KINDS.index(s.kind), s.radius, s.falloff, s.amount) for s in strokes], np.float64)
    pieces = [_segments(s) for s in strokes]
    owner = np.repeat(np.arange(len(strokes)), [len(p) for p in pieces]).astype(np.int32)
    segments = np.zeros((len(owner), 7))
    segments[:, :6] = np.concatenate(pieces)
    found = Nudges(numbers, segments, owner, found.starts, found.listed)
    if (numbers[:, 0] == SMOOTH).any():
        _measure(found, points, through)
    return listed_for(found, points)


def listed_for(nudges: Nudges, points: F32) -> Nudges:
    """The same strokes, listed for other triangles (P, 3, 3)."""
    if not len(nudges.segments):
        return no_nudges(len(points))
    radius = nudges.strokes[nudges.owner, 1]
    middle = points.mean(axis=1, dtype=np.float64)
    size = np.linalg.norm(points - middle[:, None], axis=2).max(axis=1)
    count = np.zeros(len(points) + 1, np.int64)
    nothing = np.zeros(0, np.int32)
    _list(middle, size, nudges.segments, radius, count[1:], count, nothing)
    starts = np.cumsum(count)
    listed = np.empty(int(starts[-1]), np.int32)
    _list(middle, size, nudges.segments, radius, count[1:], starts, listed)
    return replace(nudges, starts=starts, listed=listed)


def _segments(stroke: Stroke) -> F64:
    """Pieces of a stroke and of its mirror image, (S, 6)."""
    points = np.array(stroke.points, np.float64)
    ends = np.concatenate([points[:-1], points[1:]], axis=1) if len(points) > 1 else np.tile(points, 2)
    if stroke.mirror == "none":
        return ends
    return np.concatenate([ends, ends * np.tile(MIRRORED[stroke.mirror], 2)])


def _measure(nudges: Nudges, points: F32, through: Callable[[Nudges], Rays]) -> None:
    """Write the mean reach around every segment of the smoothing strokes, as earlier strokes left it."""
    places, rows, b = spread_over(points.astype(np.float64), np.arange(len(points)), PROBES)
    tree = cKDTree(places)
    for n in np.flatnonzero(nudges.strokes[:, 0] == SMOOTH):
        own, earlier = np.flatnonzero(nudges.owner == n), nudges.owner < n
        middle = (nudges.segments[own, :3] + nudges.segments[own, 3:6]) / 2
        near = tree.query_ball_point(middle, nudges.strokes[n, 1])
        few = tree.query(middle, min(FEWEST, len(places)))[1].reshape(len(own), -1)
        wanted = [np.array(k) if len(k) >= FEWEST else f for k, f in zip(near, few, strict=True)]
        used, place = np.unique(np.concatenate(wanted), return_inverse=True)
        before = replace(nudges, segments=nudges.segments[earlier], owner=nudges.owner[earlier])
        rays = through(listed_for(before, points))
        reach = np.linalg.norm(reach_at(rays, rows[used], b[used]), axis=1)
        ends = np.cumsum([len(w) for w in wanted])
        for segment, values in zip(own, np.split(reach[place], ends[:-1]), strict=True):
            nudges.segments[segment, 6] = values.mean()


@numba.njit(cache=True, nogil=True)
def _list(middle, size, segments, radius, count, starts, listed):  # type: ignore[no-untyped-def]
    """Count the segments that reach into each triangle's ball, or, given room in `listed`, write them in order."""
    low, high = np.full(3, np.inf), np.full(3, -np.inf)
    for s in range(len(segments)):
        for k in range(3):
            low[k] = min(low[k], segments[s, k] - radius[s], segments[s, 3 + k] - radius[s])
            high[k] = max(high[k], segments[s, k] + radius[s], segments[s, 3 + k] + radius[s])
    for t in range(len(middle)):
        x, y, z, r = middle[t, 0], middle[t, 1], middle[t, 2], size[t]
        if x + r < low[0] or x - r > high[0] or y + r < low[1] or y - r > high[1] or z + r < low[2] or z - r > high[2]:
            continue
        place = starts[t]
        for s in range(len(segments)):
            mx, my, mz = (
                0.5 * (segments[s, 0] + segments[s, 3]) - x, 0.5 * (segments[s, 1] + segments[s, 4]) - y,
                0.5 * (segments[s, 2] + segments[s, 5]) - z,
            )  # fmt: skip
            ux, uy, uz = (
                segments[s, 3] - segments[s, 0], segments[s, 4] - segments[s, 1], segments[s, 5] - segments[s, 2],
            )  # fmt: skip
            reach = radius[s] + r + 0.5 * np.sqrt(ux * ux + uy * uy + uz * uz)
            if mx * mx + my * my + mz * mz > reach * reach:
                continue
            if len(listed):
                listed[place] = s
                place += 1
            else:
                count[t] += 1
