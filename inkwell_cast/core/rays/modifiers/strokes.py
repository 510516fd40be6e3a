"""Nudges: strokes of a brush in space, made ready for the triangles of a low.

A stroke is a line of points with a radius. Where it lies on the low it takes the cage out or in, draws it to its mean
reach around the stroke, turns rays to the faces that they leave from, or takes back what earlier strokes did. It knows
nothing of vertices or UVs, so it stays when those change. Of what lies within its radius it touches what hangs together
with the places where it was drawn: never the finger beside the one that it was drawn on.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from ...base.array_types import F32, F64, I32, I64, AnyArray, Bool
from ...base.kernels import kernel
from ...base.on_demand import on_demand
from ...base.records import Record, record_kind, record_of, rows_of, view
from ...mesh.surface_samples import spread_over
from ...settings.regions import Stroke
from ..along_surface import listed_on
from ..closest_point import SEGMENT, closest_on_triangle, distance_between_segments, distance_to_segment
from .soft_rim import fade

cKDTree = on_demand("scipy.spatial", "cKDTree")

KINDS = ("out", "in", "smooth", "erase", "straighten")
OUT, IN, SMOOTH, ERASE, STRAIGHTEN = range(5)
MIRRORED = {"none": (1, 1, 1), "x": (-1, 1, 1), "y": (1, -1, 1), "z": (1, 1, -1)}
PROBES = 40_000  # places on the low at which a smoothing stroke measures the reach
FEWEST = 6
STROKE = np.dtype([(name, np.float64) for name in ("kind", "radius", "falloff", "amount")])
STROKES = record_kind(
    {
        "strokes": STROKE,
        "segments": SEGMENT,
        "levels": np.float64,
        "owner": np.int32,
        "starts": np.int64,
        "listed": np.int32,
    }
)

# reach (N,) float64 that nudges leave at barycentrics (N, 3) of triangles (N,)
Measure = Callable[["Nudges", I64, F64], F64]


@dataclass(frozen=True, slots=True)
class Nudges:
    """Strokes over some triangles of the low.

    strokes (N, 4) float64: kind, radius, falloff, amount (scene units for out and in, else a share).
    segments (S, 7) float64: the two ends of a piece of a stroke, and the reach that a smoothing stroke draws to there.
    owner (S,) int32 is its stroke; starts (P + 1,) int64 and listed (L,) int32 say which segments touch a triangle.
    """

    strokes: F64
    segments: F64
    owner: I32
    starts: I64
    listed: I32

    def on(self, rows: I32 | I64) -> "Nudges":
        """Those that some rows of the triangles have."""
        starts, place = listed_on(self.starts, rows)
        return replace(self, starts=starts, listed=self.listed[place])

    @property
    def record(self) -> Record:
        """Of the kind `STROKES`."""
        return record_of(
            STROKES,
            strokes=rows_of(self.strokes, STROKE),
            segments=rows_of(self.segments[:, :6], SEGMENT),
            levels=self.segments[:, 6].copy(),
            owner=self.owner,
            starts=self.starts,
            listed=self.listed,
        )


def no_nudges(triangles: int) -> Nudges:
    nothing = np.zeros(0, np.int32)
    return Nudges(np.zeros((0, 4)), np.zeros((0, 7)), nothing, np.zeros(triangles + 1, np.int64), nothing)


def nudges_of(strokes: list[Stroke], points: F32, ids: I32, measure: Measure) -> Nudges:
    """The strokes for triangles (P, 3, 3) with vertices ids (P, 3) at their corners.

    `measure` tells the reach that smoothing draws to.
    """
    nudges = no_nudges(len(points))
    if not strokes:
        return nudges
    numbers = np.array([(KINDS.index(s.kind), s.radius, s.falloff, s.amount) for s in strokes], np.float64)
    pieces = [_segments(s) for s in strokes]
    owner = np.repeat(np.arange(len(strokes)), [len(p) for p in pieces]).astype(np.int32)
    segments = np.zeros((len(owner), 7))
    segments[:, :6] = np.concatenate(pieces)
    nudges = Nudges(numbers, segments, owner, nudges.starts, nudges.listed)
    if (numbers[:, 0] == SMOOTH).any():
        _level(nudges, points, ids, measure)
    return _listed_for(nudges, points, ids)


def _listed_for(nudges: Nudges, points: F32, ids: I32) -> Nudges:
    """Strokes listed for the triangles (P, 3, 3) of a low that they touch."""
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
    pieces = rows_of(nudges.segments[:, :6], SEGMENT)
    edges = _edges_of(ids, np.flatnonzero(np.diff(starts)))
    kept = _hanging_together(points.astype(np.float64), *edges, pieces, nudges.owner, radius, starts, listed)
    sums = np.concatenate([[0], np.cumsum(kept)])
    return replace(nudges, starts=sums[starts], listed=listed[kept])


def _edges_of(ids: I32, rows: I64) -> tuple[I32, I64, I64]:
    """The edge at each side of triangles ids (P, 3), of some rows alone, where each begins in a list, and that list.

    The list holds the triangles at each edge, however many they are and however they are wound.
    """
    ends = np.stack([ids[rows], np.roll(ids[rows], -1, axis=1)]).astype(np.int64)
    keys = ends.min(axis=0) * (int(ids.max(initial=0)) + 1) + ends.max(axis=0)
    unique, edge = np.unique(keys.reshape(-1), return_inverse=True)
    edge_of = np.full(ids.shape, -1, np.int32)
    edge_of[rows] = edge.reshape(-1, 3)
    order = np.argsort(edge, kind="stable")
    starts = np.searchsorted(edge[order], np.arange(len(unique) + 1)).astype(np.int64)
    return edge_of, starts, rows[order // 3]


def _segments(stroke: Stroke) -> F64:
    """Pieces of a stroke and of its mirror image, (S, 6)."""
    points = np.array(stroke.points, np.float64)
    ends = np.concatenate([points[:-1], points[1:]], axis=1) if len(points) > 1 else np.tile(points, 2)
    if stroke.mirror == "none":
        return ends
    return np.concatenate([ends, ends * np.tile(MIRRORED[stroke.mirror], 2)])


def _level(nudges: Nudges, points: F32, ids: I32, measure: Measure) -> None:
    """Write the mean reach around every segment of the smoothing strokes, as earlier strokes left it."""
    places, rows, b = spread_over(points.astype(np.float64), np.arange(len(points)), PROBES)
    tree = cKDTree(places)
    for n in np.flatnonzero(nudges.strokes[:, 0] == SMOOTH):
        pieces, earlier = np.flatnonzero(nudges.owner == n), nudges.owner < n
        middle = (nudges.segments[pieces, :3] + nudges.segments[pieces, 3:6]) / 2
        near = tree.query_ball_point(middle, nudges.strokes[n, 1])
        few = tree.query(middle, min(FEWEST, len(places)))[1].reshape(len(pieces), -1)
        wanted = [np.array(k) if len(k) >= FEWEST else f for k, f in zip(near, few, strict=True)]
        used, place = np.unique(np.concatenate(wanted), return_inverse=True)
        before = replace(nudges, segments=nudges.segments[earlier], owner=nudges.owner[earlier])
        reach = measure(_listed_for(before, points, ids), rows[used], b[used])
        ends = np.cumsum([len(w) for w in wanted])
        for segment, values in zip(pieces, np.split(reach[place], ends[:-1]), strict=True):
            nudges.segments[segment, 6] = values.mean()


@kernel
def _list(middle: F64, size: F64, segments: F64, radius: F64, count: I64, starts: I64, listed: I32) -> None:
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
                0.5 * (segments[s, 0] + segments[s, 3]) - x,
                0.5 * (segments[s, 1] + segments[s, 4]) - y,
                0.5 * (segments[s, 2] + segments[s, 5]) - z,
            )
            ux, uy, uz = (
                segments[s, 3] - segments[s, 0],
                segments[s, 4] - segments[s, 1],
                segments[s, 5] - segments[s, 2],
            )
            reach = radius[s] + r + 0.5 * np.sqrt(ux * ux + uy * uy + uz * uz)
            if mx * mx + my * my + mz * mz > reach * reach:
                continue
            if len(listed):
                listed[place] = s
                place += 1
            else:
                count[t] += 1


@kernel
def _hanging_together(
    points: F64,
    edge_of: I32,
    edge_starts: I64,
    beside: I64,
    segments: AnyArray,
    owner: I32,
    radius: F64,
    starts: I64,
    listed: I32,
) -> Bool:
    """Which entries of `listed` lie on triangles that hang together, within the radius, with where a stroke was drawn.

    points (P, 3, 3), edges as `_edges_of` has them, radius (S,) that of the stroke of each segment.
    """
    home, kept = _drawn_on(points, segments, starts, listed), np.zeros(len(listed), np.bool_)
    reached, queue = np.full(len(points), -1, np.int64), np.empty(len(points), np.int64)
    first = 0
    while first < len(segments):
        number, last, found, done = owner[first], first, 0, 0
        while last < len(segments) and owner[last] == number:
            for t in home[last]:
                if t >= 0 and reached[t] != number:
                    reached[t], queue[found] = number, t
                    found += 1
            last += 1
        while done < found:
            t = queue[done]
            done += 1
            for i in range(starts[t], starts[t + 1]):
                s = listed[i]
                if not first <= s < last:
                    continue
                kept[i] = True
                for k in range(3):
                    if distance_between_segments(points[t, k], points[t, (k + 1) % 3], segments[s]) > radius[s]:
                        continue
                    for j in range(edge_starts[edge_of[t, k]], edge_starts[edge_of[t, k] + 1]):
                        other = beside[j]
                        if reached[other] != number:
                            reached[other], queue[found] = number, other
                            found += 1
        first = last
    return kept


@kernel
def _drawn_on(points: F64, segments: AnyArray, starts: I64, listed: I32) -> I64:
    """The triangle nearest to each end of each segment, (S, 2), of those that it is listed for; -1 for none."""
    home, away = np.full((len(segments), 2), -1, np.int64), np.full((len(segments), 2), np.inf)
    for t in range(len(points)):
        for i in range(starts[t], starts[t + 1]):
            s = listed[i]
            segment = segments[s]
            one = closest_on_triangle(segment.ax, segment.ay, segment.az, points, t)[0]
            other = closest_on_triangle(segment.bx, segment.by, segment.bz, points, t)[0]
            if one < away[s, 0]:
                away[s, 0], home[s, 0] = one, t
            if other < away[s, 1]:
                away[s, 1], home[s, 1] = other, t
    return home


@kernel
def nudged(
    t: int, x: float, y: float, z: float, outward: float, straight: float, modifiers: Record
) -> tuple[float, float]:
    """Outward reach and straightening at a place of triangle t after its strokes, in the order of their drawing."""
    brush = view(modifiers, "strokes")
    strokes, segments = (
        view(brush, "strokes"),
        view(brush, "segments"),
    )
    levels = view(brush, "levels")
    owner, listed = view(brush, "owner"), view(brush, "listed")
    starts = view(brush, "starts")
    before, turned = outward, straight
    i, end = starts[t], starts[t + 1]
    while i < end:
        number = owner[listed[i]]
        stroke = strokes[number]
        weight = level = total = 0.0
        while i < end and owner[listed[i]] == number:
            share = fade(distance_to_segment(x, y, z, segments[listed[i]]) / stroke.radius, stroke.falloff)
            weight = max(weight, share)
            level += share * levels[listed[i]]
            total += share
            i += 1
        if stroke.kind == OUT:
            outward += weight * stroke.amount
        elif stroke.kind == IN:
            outward = max(outward - weight * stroke.amount, 0.0)
        elif stroke.kind == SMOOTH and total > 0:
            outward += weight * stroke.amount * (level / total - outward)
        elif stroke.kind == ERASE:
            outward += weight * stroke.amount * (before - outward)
            straight += weight * stroke.amount * (turned - straight)
        elif stroke.kind == STRAIGHTEN:
            straight += weight * stroke.amount * (1 - straight)
    return outward, straight
