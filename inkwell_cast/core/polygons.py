"""The one rule by which polygons become triangles.

A quad is cut along its shorter diagonal (the first to the third corner if both are equally long), unless only the
other cut stays inside it; a larger polygon loses its best ear first, seen along its area vector. The same rule
serves every reader, so the triangles that are baked are those that are handed off.
"""

import numba
import numpy as np

from .arrays import F32, I32, I64


def triangulate(counts: I64, corners: I64, positions: F32) -> tuple[I64, I64]:
    """Cut polygons into triangles.

    counts (F,) corners of each polygon, corners (C,) their rows of `positions (V, 3)`, polygon after polygon.
    Returns `picks (T, 3)`, places in `corners`, and `faces (T,)`, the polygon of each triangle. Polygons with
    fewer than three corners give no triangle.
    """
    counts = np.ascontiguousarray(counts, np.int64)
    starts = np.concatenate([[0], np.cumsum(counts)])[:-1]
    made = np.maximum(counts - 2, 0)
    faces = np.repeat(np.arange(len(counts)), made)
    if len(counts) and counts.min() == 3 and counts.max() == 3:
        return np.arange(3 * len(counts), dtype=np.int64).reshape(-1, 3), faces
    picks = np.empty((int(made.sum()), 3), np.int64)
    first = np.concatenate([[0], np.cumsum(made)])[:-1]
    with np.errstate(invalid="ignore"):
        points = positions.astype(np.float64)
    _cut_all(counts, starts, first, corners.astype(np.int64), points, picks)
    return picks, faces


def corner_rows(values: I64, picks: I64) -> I32:
    """Rows of a layer at the triangles' corners, from rows at the polygons' corners."""
    return np.ascontiguousarray(values[picks], np.int32)


@numba.njit(cache=True, nogil=True)
def _cut_all(counts, starts, first, corners, positions, picks):  # type: ignore[no-untyped-def]
    for f in range(len(counts)):
        n, s, o = counts[f], starts[f], first[f]
        if n == 3:
            picks[o, 0], picks[o, 1], picks[o, 2] = s, s + 1, s + 2
        elif n == 4:
            _cut_quad(s, o, corners, positions, picks)
        elif n > 4:
            _cut_ears(n, s, o, corners, positions, picks)


@numba.njit(cache=True, nogil=True)
def _area_vector(a, b, c):  # type: ignore[no-untyped-def]
    return np.cross(b - a, c - a)


@numba.njit(cache=True, nogil=True)
def _cut_quad(s, o, corners, positions, picks):  # type: ignore[no-untyped-def]
    a, b = positions[corners[s]], positions[corners[s + 1]]
    c, d = positions[corners[s + 2]], positions[corners[s + 3]]
    along_ac = np.dot(_area_vector(a, b, c), _area_vector(a, c, d))
    along_bd = np.dot(_area_vector(b, c, d), _area_vector(b, d, a))
    ac_shorter = np.dot(c - a, c - a) <= np.dot(d - b, d - b)
    if (along_ac > 0) != (along_bd > 0):
        ac_shorter = along_ac > 0
    if ac_shorter:
        picks[o, 0], picks[o, 1], picks[o, 2] = s, s + 1, s + 2
        picks[o + 1, 0], picks[o + 1, 1], picks[o + 1, 2] = s, s + 2, s + 3
    else:
        picks[o, 0], picks[o, 1], picks[o, 2] = s + 1, s + 2, s + 3
        picks[o + 1, 0], picks[o + 1, 1], picks[o + 1, 2] = s + 1, s + 3, s


@numba.njit(cache=True, nogil=True)
def _cut_ears(n, s, o, corners, positions, picks):  # type: ignore[no-untyped-def]
    p = np.empty((n, 3))
    for i in range(n):
        p[i] = positions[corners[s + i]]
    normal = np.zeros(3)
    for i in range(1, n - 1):
        normal += _area_vector(p[0], p[i], p[i + 1])
    left = np.arange(n)
    m = n
    while m > 3:
        best, best_score = -1, -np.inf
        for i in range(m):
            a, b, c = p[left[i - 1 if i else m - 1]], p[left[i]], p[left[i + 1 if i + 1 < m else 0]]
            area = np.dot(_area_vector(a, b, c), normal)
            if area <= 0:
                continue
            clear = True
            for j in range(m):
                q = p[left[j]]
                if j == i or j == (i - 1 if i else m - 1) or j == (i + 1 if i + 1 < m else 0):
                    continue
                inside_a = np.dot(_area_vector(a, b, q), normal) > 0
                inside_b = np.dot(_area_vector(b, c, q), normal) > 0
                inside_c = np.dot(_area_vector(c, a, q), normal) >= 0
                if inside_a and inside_b and inside_c:
                    clear = False
                    break
            spread = np.dot(b - a, b - a) + np.dot(c - b, c - b) + np.dot(a - c, a - c)
            score = area / spread if spread > 0 else 0.0
            if clear and score > best_score:
                best, best_score = i, score
        if best < 0:  # no proper ear in a folded or flat polygon: take corners in order
            best = 1
        before, after = left[best - 1 if best else m - 1], left[best + 1 if best + 1 < m else 0]
        picks[o, 0], picks[o, 1], picks[o, 2] = s + before, s + left[best], s + after
        o += 1
        for i in range(best, m - 1):
            left[i] = left[i + 1]
        m -= 1
    picks[o, 0], picks[o, 1], picks[o, 2] = s + left[0], s + left[1], s + left[2]
