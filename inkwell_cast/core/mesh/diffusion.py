"""Diffusion of values over a surface: (M + d S) x = M v, with lumped mass M and the stiffness S of linear elements.

M. Botsch et al., "Polygon Mesh Processing", 2010, chapters 3 and 4. Solved by conjugate gradients in single precision;
sums run over fixed spans of vertices, so that the result is the same for any number of threads.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, F64, I32, I64
from ..base.kernels import kernel
from ..base.progress import Cancel
from ..base.threads import in_batches

SPAN = 1 << 16  # vertices
CLOSE = 3e-4  # of the residual
MOST = 500  # steps of a solution
LEAST_COTANGENT = 1e-3  # obtuse corners would make it oscillate


@dataclass(frozen=True, slots=True)
class Links:
    """How vertices (V,) hang together: those beside vertex v are others[starts[v]:starts[v + 1]].

    weights (E,) float32 are the halves of the cotangents across the edge, summed; whole (V,) float32 their sums.
    """

    starts: I64
    others: I32
    weights: F32
    whole: F32


def links_of(points: F32, corners: I32) -> Links:
    """Those of triangles (T, 3) over points (V, 3)."""
    ends = _count(corners, len(points))
    others, weights = np.empty(ends[-1], np.int32), np.empty(ends[-1], np.float32)
    starts = _fill(points, corners, ends, others, weights)
    kept = int(starts[-1])
    return links_by_row(starts, others[:kept].copy(), weights[:kept].copy())


def links_by_row(starts: I64, others: I32, weights: F32) -> Links:
    """Those whose rows stand already."""
    whole = np.empty(len(starts) - 1, np.float32)
    _sum_rows(starts, weights, whole)
    return Links(starts, others, weights, whole)


def diffused(values: F64, mass: F64, links: Links, step: float, cancelled: Cancel = lambda: False) -> F64:
    """Values (V,) after one implicit step, of a length in square scene units. Raises Cancelled."""
    count = len(values)
    x, right = values.astype(np.float32), (mass * values).astype(np.float32)
    diagonal = np.maximum(mass + step * links.whole.astype(np.float64), 1e-30).astype(np.float32)
    residual, way, changed = np.empty_like(x), np.empty_like(x), np.empty_like(x)
    spans, sums = -(-count // SPAN), np.zeros((-(-count // SPAN), 2))
    system = links.starts, links.others, links.weights, diagonal, np.float32(step)

    def total(kernel: Callable[..., None], *arguments: object) -> F64:
        in_batches(spans, lambda first, last: kernel(first, last, *arguments, sums), cancelled=cancelled)
        return np.asarray(sums.sum(axis=0))

    total(_apply, *system, x, changed)
    square, along = total(_begin, diagonal, right, changed, residual, way)
    goal = CLOSE**2 * float(np.square(right, dtype=np.float64).sum())
    for _ in range(MOST):
        if square <= goal or along <= 0:
            break
        (bent, _) = total(_apply, *system, way, changed)
        if bent <= 0:
            break
        before = along
        square, along = total(_move, diagonal, x, way, residual, changed, np.float32(before / bent))
        total(_turn, diagonal, residual, way, np.float32(along / before))
    return x.astype(np.float64)


@kernel
def _count(corners: I32, count: int) -> I64:
    """Where the links of each vertex would end, two for each triangle that it is a corner of, (V + 1,) from 0."""
    ends = np.zeros(count + 1, np.int64)
    for t in range(len(corners)):
        for i in range(3):
            ends[corners[t, i] + 1] += 2
    for v in range(count):
        ends[v + 1] += ends[v]
    return ends


@kernel
def _fill(points: F32, corners: I32, ends: I64, others: I32, weights: F32) -> I64:
    """Write the links, those to the same vertex summed up and moved together; where each vertex's begin, (V + 1,)."""
    at = ends[:-1].copy()
    e = np.empty((3, 3))
    for t in range(len(corners)):
        for i in range(3):
            a, b = points[corners[t, (i + 1) % 3]], points[corners[t, (i + 2) % 3]]
            for k in range(3):
                e[i, k] = np.float64(b[k]) - np.float64(a[k])  # the edge across from corner i
        x, y = e[0, 1] * e[1, 2] - e[0, 2] * e[1, 1], e[0, 2] * e[1, 0] - e[0, 0] * e[1, 2]
        z = e[0, 0] * e[1, 1] - e[0, 1] * e[1, 0]
        double = np.sqrt(x * x + y * y + z * z)
        for i in range(3):
            j, k = (i + 1) % 3, (i + 2) % 3
            dot = e[j, 0] * e[k, 0] + e[j, 1] * e[k, 1] + e[j, 2] * e[k, 2]
            half = np.float32(max(-dot / double, LEAST_COTANGENT) / 2) if double > 0 else np.float32(0)
            for a, b in ((corners[t, j], corners[t, k]), (corners[t, k], corners[t, j])):
                others[at[a]], weights[at[a]] = b, half
                at[a] += 1
    starts, place = np.empty(len(points) + 1, np.int64), 0
    for v in range(len(points)):
        begin = place
        for n in range(ends[v], ends[v + 1]):
            other, weight, known = others[n], weights[n], begin
            while known < place and others[known] != other:
                known += 1
            if known == place:
                others[place], weights[place] = other, weight
                place += 1
            else:
                weights[known] += weight
        starts[v] = begin
    starts[len(points)] = place
    return starts


@kernel
def _sum_rows(starts: I64, weights: F32, whole: F32) -> None:
    for v in range(len(whole)):
        total = 0.0
        for n in range(starts[v], starts[v + 1]):
            total += weights[n]
        whole[v] = total


@kernel
def _apply(
    first: int,
    last: int,
    starts: I64,
    others: I32,
    weights: F32,
    diagonal: F32,
    step: float,
    x: F32,
    out: F32,
    sums: F64,
) -> None:
    """The system times x, over some spans; the first sum of each is that of their products."""
    for span in range(first, last):
        total = 0.0
        for v in range(span * SPAN, min((span + 1) * SPAN, len(x))):
            beside = np.float32(0)
            for n in range(starts[v], starts[v + 1]):
                beside += weights[n] * x[others[n]]
            out[v] = diagonal[v] * x[v] - step * beside
            total += x[v] * out[v]
        sums[span, 0] = total


@kernel
def _begin(first: int, last: int, diagonal: F32, right: F32, changed: F32, residual: F32, way: F32, sums: F64) -> None:
    """Residual and first way; sums of its squares, and of those over the diagonal."""
    for span in range(first, last):
        square = along = 0.0
        for v in range(span * SPAN, min((span + 1) * SPAN, len(right))):
            residual[v] = right[v] - changed[v]
            way[v] = residual[v] / diagonal[v]
            square += residual[v] * residual[v]
            along += residual[v] * way[v]
        sums[span, 0], sums[span, 1] = square, along


@kernel
def _move(
    first: int, last: int, diagonal: F32, x: F32, way: F32, residual: F32, changed: F32, far: float, sums: F64
) -> None:
    """A step along the way; the same sums."""
    for span in range(first, last):
        square = along = 0.0
        for v in range(span * SPAN, min((span + 1) * SPAN, len(x))):
            x[v] += far * way[v]
            residual[v] -= far * changed[v]
            square += residual[v] * residual[v]
            along += residual[v] * residual[v] / diagonal[v]
        sums[span, 0], sums[span, 1] = square, along


@kernel
def _turn(first: int, last: int, diagonal: F32, residual: F32, way: F32, share: float, sums: F64) -> None:
    """The next way."""
    for v in range(first * SPAN, min(last * SPAN, len(way))):
        way[v] = residual[v] / diagonal[v] + share * way[v]
