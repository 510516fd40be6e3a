"""Contour lines on the low of how far the sculpt stands out of the cage, or lies below the end of its rays.

The field is known at places that rays from the sculpt found on the low; between them it is their mean, the nearer the
more (D. Shepard, "A two-dimensional interpolation function for irregularly-spaced data", 1968). Lines run through an
even grid over each face, straight within its cells (marching triangles).
"""

from dataclasses import dataclass, field

import numpy as np

from ..base.array_types import F32, F64, I32, I64
from ..base.on_demand import on_demand
from ..mesh.mesh import Mesh, corner_positions

cKDTree = on_demand("scipy.spatial", "cKDTree")

FINE = 1 / 120  # of the low's diagonal: the side of a cell
MOST_ALONG, MOST_PLACES, MOST_CELLS = 16, 40_000, 60_000  # cells along an edge, places of the field, cells in all
NEIGHBOURS = 6
LINES, NEARLY_ALL, MOST_LINES = 4, 95, 12  # levels up to so many % of what is not held, and all that are drawn
MOST_LABELS = 24
APART = 0.12  # of the diagonal: numbers stand no nearer to each other


@dataclass(frozen=True, slots=True)
class Contours:
    """Lines (S, 2, 3) float32 on the low, scene units; the level (S,) of each, by how far beyond what is held.

    labels (L, 4) are places of lines where their level is written, and that; step lies between two levels.
    """

    lines: F32 = field(default_factory=lambda: np.zeros((0, 2, 3), np.float32))
    levels: F32 = field(default_factory=lambda: np.zeros(0, np.float32))
    labels: F32 = field(default_factory=lambda: np.zeros((0, 4), np.float32))
    step: float = 0.0


def contours(low: Mesh, triangle: I32, b: F32, beyond: F32, count: int = LINES) -> Contours:
    """Those of a field `beyond` (N,), held where it is 0 or less, at places of the low: triangles (N,), b (N, 3).

    About `count` lines; one is the rim alone.
    """
    worst = float(beyond.max(initial=0.0))
    if worst <= 0:
        return Contours()
    corners = corner_positions(low).astype(np.float64)
    few = np.linspace(0, len(triangle) - 1, min(len(triangle), MOST_PLACES)).astype(np.int64)
    few = np.unique(np.concatenate([few, np.flatnonzero(beyond > 0)[: MOST_PLACES // 2]]))
    places: F64 = np.einsum("nk,nkc->nc", b[few].astype(np.float64), corners[triangle[few]])
    tree, values = cKDTree(places), beyond[few].astype(np.float64)
    near = FINE * low.diagonal
    rows = _reached(corners, places[values > 0], 4 * near)
    step = nice(float(np.percentile(values[values > 0], NEARLY_ALL)) / count)
    levels = np.arange(0, worst, step)[:MOST_LINES]
    lines, of = [np.zeros((0, 2, 3))], [np.zeros(0)]
    for along, own in cells_by_size(corners, rows, near):
        grid, cells = grid_over(along)
        points: F64 = np.einsum("gk,tkc->tgc", grid, corners[own])
        shape = points.shape[:2]
        distance, found = tree.query(points.reshape(-1, 3), min(NEIGHBOURS, len(places)), workers=-1)
        weight = 1 / np.maximum(distance.reshape(len(found), -1), 1e-3 * near) ** 2
        mean = (weight * values[found.reshape(len(found), -1)]).sum(axis=1) / weight.sum(axis=1)
        field_at, at = mean.reshape(shape)[:, cells].reshape(-1, 3), points[:, cells].reshape(-1, 3, 3)
        for level in levels:
            cut = marched(at, field_at - level)
            lines.append(cut)
            of.append(np.full(len(cut), level))
    every, level_of = np.concatenate(lines), np.concatenate(of)
    raised = level_of > 0  # that the rim is 0 needs no number
    labels = _labels(every[raised], level_of[raised], APART * low.diagonal)
    return Contours(every.astype(np.float32), level_of.astype(np.float32), labels.astype(np.float32), step)


def nice(value: float) -> float:
    """The largest of 1, 2 and 5 times a power of ten that is not above a value."""
    power = 10.0 ** np.floor(np.log10(value))
    return float(max(round(times * power, 12) for times in (1, 2, 5) if times * power <= value * (1 + 1e-12)))


def marched(corners: F64, values: F64) -> F64:
    """The segments (S, 2, 3) along which values at corners of triangles (T, 3), (T, 3, 3) are 0."""
    above = values > 0
    alone = np.where(above.sum(axis=1) == 1, above.argmax(axis=1), (~above).argmax(axis=1))  # the corner on its own
    rows = np.flatnonzero((above.sum(axis=1) > 0) & (above.sum(axis=1) < 3))
    ends = []
    for other in (1, 2):
        i, j = alone[rows], (alone[rows] + other) % 3
        share = values[rows, i] / (values[rows, i] - values[rows, j])
        ends.append(corners[rows, i] + share[:, None] * (corners[rows, j] - corners[rows, i]))
    return np.stack(ends, axis=1)


def _reached(corners: F64, lost: F64, near: float) -> I64:
    """The faces (T, 3, 3) that a place lies on, or near to, that is not held."""
    middle = corners.mean(axis=1)
    size = np.linalg.norm(corners - middle[:, None], axis=2).max(axis=1)
    distance, _ = cKDTree(lost).query(middle, workers=-1)
    return np.flatnonzero(distance <= size + near)


def cells_by_size(corners: F64, rows: I64, near: float) -> list[tuple[int, I64]]:
    """Faces by how many cells fit along their longest edge, as many as there may be in all."""
    edges = np.linalg.norm(corners[rows] - np.roll(corners[rows], 1, axis=1), axis=2).max(axis=1)
    along = np.clip(np.ceil(edges / near), 1, MOST_ALONG).astype(np.int64)
    while len(along) and (along**2).sum() > MOST_CELLS and along.max() > 1:
        along = np.maximum(along // 2, 1)
    return [(int(n), rows[along == n]) for n in np.unique(along)]


def grid_over(along: int) -> tuple[F64, I64]:
    """Barycentrics (G, 3) of an even grid over a face, and the corners (C, 3) of its cells."""
    index, points = dict[tuple[int, int], int](), list[tuple[float, float, float]]()
    for i in range(along + 1):
        for j in range(along + 1 - i):
            index[i, j] = len(points)
            points.append((1 - (i + j) / along, i / along, j / along))
    cells = []
    for i in range(along):
        for j in range(along - i):
            cells.append((index[i, j], index[i + 1, j], index[i, j + 1]))
            if i + j < along - 1:
                cells.append((index[i + 1, j], index[i + 1, j + 1], index[i, j + 1]))
    return np.array(points), np.array(cells)


def _labels(lines: F64, level_of: F64, apart: float) -> F64:
    """Where lines bear their number, (L, 4): the highest level first, apart from each other."""
    chosen = np.zeros((0, 4))
    for row in np.argsort(-level_of, kind="stable"):
        place = lines[row].mean(axis=0)
        if not len(chosen) or np.linalg.norm(chosen[:, :3] - place, axis=1).min() > apart / 2:
            own = chosen[chosen[:, 3] == level_of[row]]
            if not len(own) or np.linalg.norm(own[:, :3] - place, axis=1).min() > 2 * apart:
                chosen = np.concatenate([chosen, [[*place, level_of[row]]]])
        if len(chosen) >= MOST_LABELS:
            break
    return chosen
