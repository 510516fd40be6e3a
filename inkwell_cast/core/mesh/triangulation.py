"""The one rule by which polygons become triangles.

A quad is cut along its shorter diagonal (the first to the third corner if both are equally long), unless only the
other cut stays inside it; a larger polygon loses its best ear first, seen along its area vector (while it has more
than 256 corners the first ear found, and with more than 8,192 it is cut as a fan). The same rule serves every reader
but FBX's, so the triangles that are baked are those that are handed off.

What differs by less than `TIE` of itself counts as equal, and a triangle flatter than `FLAT` as none: so a mesh that is
exported larger, turned or moved, whose numbers are rounded otherwise, is cut alike.
"""

import numpy as np

from ..base.array_types import F32, F64, I32, I64
from ..base.kernel_types import Vector
from ..base.kernels import kernel

TIE = 1e-4  # of squared lengths, and of how good an ear is
FLAT = 1e-5  # twice the area of a triangle over the square of its longest side, or of an ear over all its sides
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
def _cut_all(counts: I64, starts: I64, first: I64, corners: I64, positions: F64, picks: I64) -> None:
    for f in range(len(counts)):
        n, s, o = counts[f], starts[f], first[f]
        if n == 3:
            picks[o, 0], picks[o, 1], picks[o, 2] = s, s + 1, s + 2
        elif n == 4:
            _cut_quad(s, o, corners, positions, picks)
        elif n > 4:
            _cut_ears(n, s, o, corners, positions, picks)


@kernel
def _area_vector(p: F64, a: int, b: int, c: int) -> Vector:
    """Twice the area of the triangle of rows a, b and c of p, along its normal."""
    ux, uy, uz = p[b, 0] - p[a, 0], p[b, 1] - p[a, 1], p[b, 2] - p[a, 2]
    vx, vy, vz = p[c, 0] - p[a, 0], p[c, 1] - p[a, 1], p[c, 2] - p[a, 2]
    return uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx


@kernel
def _dot(u: Vector, v: Vector) -> float:
    return u[0] * v[0] + u[1] * v[1] + u[2] * v[2]


@kernel
def _square(p: F64, a: int, b: int) -> float:
    """Squared distance of rows a and b of p."""
    x, y, z = p[b, 0] - p[a, 0], p[b, 1] - p[a, 1], p[b, 2] - p[a, 2]
    return x * x + y * y + z * z


@kernel
def _stays_inside(p: F64, a: int, b: int, c: int, d: int) -> bool:
    """Whether the cut from a to c leaves two triangles of a quad's rows that are not flat and look the same way."""
    one, other = _area_vector(p, a, b, c), _area_vector(p, a, c, d)
    cut = _square(p, a, c)
    longest = max(cut, _square(p, a, b), _square(p, b, c)), max(cut, _square(p, c, d), _square(p, d, a))
    flat = FLAT * FLAT
    if _dot(one, one) <= flat * longest[0] * longest[0] or _dot(other, other) <= flat * longest[1] * longest[1]:
        return False
    return _dot(one, other) > 0


@kernel
def ties(ac: float, bd: float) -> bool:
    """Whether squared diagonals of a quad are equally long."""
    return abs(ac - bd) <= TIE * max(ac, bd)


@kernel
def _cut_quad(s: int, o: int, corners: I64, positions: F64, picks: I64) -> None:
    a, b, c, d = corners[s], corners[s + 1], corners[s + 2], corners[s + 3]
    ac, bd = _square(positions, a, c), _square(positions, b, d)
    from_first = ac <= bd or ties(ac, bd)
    inside = _stays_inside(positions, a, b, c, d)
    if inside != _stays_inside(positions, b, c, d, a):
        from_first = inside
    first = s if from_first else s + 1
    second, third = first + 1, first + 2
    last = s + 3 if from_first else s
    picks[o, 0], picks[o, 1], picks[o, 2] = first, second, third
    picks[o + 1, 0], picks[o + 1, 1], picks[o + 1, 2] = first, third, last


@kernel
def _is_clear(p: F64, left: I64, ear: tuple[int, int, int], normal: Vector) -> bool:
    """Whether no other corner of what is left of a polygon lies in an ear; ear holds three places in `left`."""
    a, b, c = left[ear[0]], left[ear[1]], left[ear[2]]
    for j in range(len(left)):
        if j in ear:
            continue
        q = left[j]
        if _beside(p, a, b, q, normal) > 0 and _beside(p, b, c, q, normal) > 0 and _beside(p, c, a, q, normal) >= 0:
            return False
    return True


@kernel
def _beside(p: F64, a: int, b: int, q: int, normal: Vector) -> int:
    """On which side of the line from a to b a row q lies, seen along a unit normal: 1 the inner, -1, or 0 for on it."""
    area = _dot(_area_vector(p, a, b, q), normal)
    within = FLAT * max(_square(p, a, b), _square(p, a, q), _square(p, b, q))
    return 0 if abs(area) <= within else 1 if area > 0 else -1


@kernel
def _cut_ears(n: int, s: int, o: int, corners: I64, positions: F64, picks: I64) -> None:
    p = np.empty((n, 3))
    for i in range(n):
        for k in range(3):
            p[i, k] = positions[corners[s + i], k]
    nx = ny = nz = 0.0
    for i in range(1, n - 1):
        x, y, z = _area_vector(p, 0, i, i + 1)
        nx, ny, nz = nx + x, ny + y, nz + z
    size = max(np.sqrt(nx * nx + ny * ny + nz * nz), 1e-300)
    normal = nx / size, ny / size, nz / size
    if n > LARGEST:
        for i in range(n - 2):
            picks[o + i, 0], picks[o + i, 1], picks[o + i, 2] = s, s + i + 1, s + i + 2
        return
    left = np.arange(n)
    m, folded = n, False
    while m > 3:
        best = -1 if not folded else 1
        best_score = 0.0
        for i in range(0 if folded else m):
            before, after = i - 1 if i else m - 1, i + 1 if i + 1 < m else 0
            a, b, c = left[before], left[i], left[after]
            area = _dot(_area_vector(p, a, b, c), normal)
            spread = _square(p, a, b) + _square(p, b, c) + _square(p, c, a)
            score = area / spread if spread > 0 else 0.0
            if score <= FLAT or score <= best_score + TIE * abs(best_score):
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
