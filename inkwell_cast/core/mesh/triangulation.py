"""The one rule by which polygons become triangles.

A quad is cut along its shorter diagonal (the first to the third corner if both are equally long), unless only the
other cut stays inside it; a larger polygon loses its best ear first, seen along its area vector (while it has more
than 256 corners the first ear found, and with more than 8,192 it is cut as a fan). The same rule serves every reader
but FBX's, so the triangles that are baked are those that are handed off.
"""

import numpy as np

from ..base.array_types import F32, I32, I64
from ..base.kernels import kernel

MANY = 256
LARGEST = 8192


def triangulate(counts: I64, corners: I64, positions: F32) -> tuple[I64, I64]:
    """Cut polygons into triangles.

    counts (F,) corners of each polygon, corners (C,) their rows of `positions (V, 3)`, polygon after polygon.
    Returns `picks (T, 3)`, places in `corners`, and `faces (T,)`, the polygon of each triangle. Polygons with
    fewer than three corners give no triangle.
    """
    counts = np.ascontiguousarray(counts, np.int64)
    starts = np.concatenate([[0], np.cumsum(counts)])[:-1]
    triangles = np.maximum(counts - 2, 0)
    faces = np.repeat(np.arange(len(counts)), triangles)
    if len(counts) and counts.min() == 3 and counts.max() == 3:
        return np.arange(3 * len(counts), dtype=np.int64).reshape(-1, 3), faces
    picks = np.empty((int(triangles.sum()), 3), np.int64)
    first = np.concatenate([[0], np.cumsum(triangles)])[:-1]
    with np.errstate(invalid="ignore"):
        points = positions.astype(np.float64)
    _cut_all(counts, starts, first, corners.astype(np.int64), points, picks)
    return picks, faces


def corner_rows(values: I64, picks: I64) -> I32:
    """Rows of a layer at the triangles' corners, from rows at the polygons' corners."""
    return np.ascontiguousarray(values[picks], np.int32)


@kernel
def _cut_all(counts, starts, first, corners, positions, picks):  # type: ignore[no-untyped-def]
    for f in range(len(counts)):
        n, s, o = counts[f], starts[f], first[f]
        if n == 3:
            picks[o, 0], picks[o, 1], picks[o, 2] = s, s + 1, s + 2
        elif n == 4:
            _cut_quad(s, o, corners, positions, picks)
        elif n > 4:
            _cut_ears(n, s, o, corners, positions, picks)


@kernel
def _area_vector(p, a, b, c):  # type: ignore[no-untyped-def]
    """Twice the area of the triangle of rows a, b and c of p, along its normal."""
    ux, uy, uz = p[b, 0] - p[a, 0], p[b, 1] - p[a, 1], p[b, 2] - p[a, 2]
    vx, vy, vz = p[c, 0] - p[a, 0], p[c, 1] - p[a, 1], p[c, 2] - p[a, 2]
    return uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx


@kernel
def _dot(u, v):  # type: ignore[no-untyped-def]
    return u[0] * v[0] + u[1] * v[1] + u[2] * v[2]


@kernel
def _square(p, a, b):  # type: ignore[no-untyped-def]
    """Squared distance of rows a and b of p."""
    x, y, z = p[b, 0] - p[a, 0], p[b, 1] - p[a, 1], p[b, 2] - p[a, 2]
    return x * x + y * y + z * z


@kernel
def _cut_quad(s, o, corners, positions, picks):  # type: ignore[no-untyped-def]
    a, b, c, d = corners[s], corners[s + 1], corners[s + 2], corners[s + 3]
    along_ac = _dot(_area_vector(positions, a, b, c), _area_vector(positions, a, c, d))
    along_bd = _dot(_area_vector(positions, b, c, d), _area_vector(positions, b, d, a))
    ac_shorter = _square(positions, a, c) <= _square(positions, b, d)
    if (along_ac > 0) != (along_bd > 0):
        ac_shorter = along_ac > 0
    first = s if ac_shorter else s + 1
    second, third = first + 1, first + 2
    last = s + 3 if ac_shorter else s
    picks[o, 0], picks[o, 1], picks[o, 2] = first, second, third
    picks[o + 1, 0], picks[o + 1, 1], picks[o + 1, 2] = first, third, last


@kernel
def _is_clear(p, left, ear, normal):  # type: ignore[no-untyped-def]
    """Whether no other corner of what is left of a polygon lies in an ear; ear holds three places in `left`."""
    a, b, c = left[ear[0]], left[ear[1]], left[ear[2]]
    for j in range(len(left)):
        if j in ear:
            continue
        q = left[j]
        if (
            _dot(_area_vector(p, a, b, q), normal) > 0
            and _dot(_area_vector(p, b, c, q), normal) > 0
            and _dot(_area_vector(p, c, a, q), normal) >= 0
        ):
            return False
    return True


@kernel
def _cut_ears(n, s, o, corners, positions, picks):  # type: ignore[no-untyped-def]
    p = np.empty((n, 3))
    for i in range(n):
        for k in range(3):
            p[i, k] = positions[corners[s + i], k]
    nx = ny = nz = 0.0
    for i in range(1, n - 1):
        x, y, z = _area_vector(p, 0, i, i + 1)
        nx, ny, nz = nx + x, ny + y, nz + z
    normal = nx, ny, nz
    if n > LARGEST:
        for i in range(n - 2):
            picks[o + i, 0], picks[o + i, 1], picks[o + i, 2] = s, s + i + 1, s + i + 2
        return
    left = np.arange(n)
    m, folded = n, False
    while m > 3:
        best = -1 if not folded else 1
        best_score = -np.inf
        for i in range(0 if folded else m):
            before, after = i - 1 if i else m - 1, i + 1 if i + 1 < m else 0
            a, b, c = left[before], left[i], left[after]
            area = _dot(_area_vector(p, a, b, c), normal)
            spread = _square(p, a, b) + _square(p, b, c) + _square(p, c, a)
            score = area / spread if spread > 0 else 0.0
            if area <= 0 or score <= best_score:
                continue
            if _is_clear(p, left[:m], (before, i, after), normal):
                best, best_score = i, score
                if m > MANY:
                    break
        if best < 0:  # no proper ear in a folded or flat polygon: the rest is cut in order
            best, folded = 1, True
        before, after = left[best - 1 if best else m - 1], left[best + 1 if best + 1 < m else 0]
        picks[o, 0], picks[o, 1], picks[o, 2] = s + before, s + left[best], s + after
        o += 1
        for i in range(best, m - 1):
            left[i] = left[i + 1]
        m -= 1
    picks[o, 0], picks[o, 1], picks[o, 2] = s + left[0], s + left[1], s + left[2]
