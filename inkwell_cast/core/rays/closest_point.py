"""The nearest point of a cage mesh to a place of the low, from the triangles that its cell lists; see `special`."""

import numba
import numpy as np

from .modifiers.blocks import AT_BALLS, AT_CELLS, AT_CORNERS, AT_NEAREST, AT_NORMALS


@numba.njit(cache=True, nogil=True)
def mixed(k, w1, w2, numbers):  # type: ignore[no-untyped-def]
    """Three corners that stand in `numbers` from k on, interpolated."""
    w0 = 1 - w1 - w2
    return (
        w0 * numbers[k] + w1 * numbers[k + 3] + w2 * numbers[k + 6],
        w0 * numbers[k + 1] + w1 * numbers[k + 4] + w2 * numbers[k + 7],
        w0 * numbers[k + 2] + w1 * numbers[k + 5] + w2 * numbers[k + 8],
    )


@numba.njit(cache=True, nogil=True)
def cage_point(k, w1, w2, numbers, places):  # type: ignore[no-untyped-def]
    """A point of cage triangle k."""
    return mixed(places[AT_CORNERS] + 9 * k, w1, w2, numbers)


@numba.njit(cache=True, nogil=True)
def nearest_of(px, py, pz, ux, uy, uz, cell, numbers, places):  # type: ignore[no-untyped-def]
    """The nearest point of a cell's cage triangles whose normal there agrees with u within 90 degrees.

    Gives (squared distance, triangle, w1, w2); triangle is -1 for none.
    """
    best, chosen, c1, c2 = np.inf, -1, 0.0, 0.0
    for i in range(places[places[AT_CELLS] + cell], places[places[AT_CELLS] + cell + 1]):
        k = places[places[AT_NEAREST] + i]
        ball = places[AT_BALLS] + 4 * k
        dx, dy, dz = px - numbers[ball], py - numbers[ball + 1], pz - numbers[ball + 2]
        away = np.sqrt(dx * dx + dy * dy + dz * dz) - numbers[ball + 3]
        if away > 0 and away * away >= best:
            continue
        square, w1, w2 = nearest_in(px, py, pz, places[AT_CORNERS] + 9 * k, numbers)
        if square < best:
            x, y, z = mixed(places[AT_NORMALS] + 9 * k, w1, w2, numbers)
            if x * ux + y * uy + z * uz > 0:
                best, chosen, c1, c2 = square, k, w1, w2
    return best, chosen, c1, c2


@numba.njit(cache=True, nogil=True)
def nearest_in(px, py, pz, k, c):  # type: ignore[no-untyped-def]
    """The point nearest to p of the triangle whose corners stand in c from k on: (squared distance, w1, w2).

    By the regions of its corners and edges: C. Ericson, "Real-Time Collision Detection" (2005), 5.1.5.
    """
    ux, uy, uz = c[k + 3] - c[k], c[k + 4] - c[k + 1], c[k + 5] - c[k + 2]
    vx, vy, vz = c[k + 6] - c[k], c[k + 7] - c[k + 1], c[k + 8] - c[k + 2]
    wx, wy, wz = px - c[k], py - c[k + 1], pz - c[k + 2]
    d1, d2 = ux * wx + uy * wy + uz * wz, vx * wx + vy * wy + vz * wz
    uu, uv, vv = ux * ux + uy * uy + uz * uz, ux * vx + uy * vy + uz * vz, vx * vx + vy * vy + vz * vz
    d3, d4, d5, d6 = d1 - uu, d2 - uv, d1 - uv, d2 - vv
    va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2
    if d1 <= 0 and d2 <= 0:
        w1, w2 = 0.0, 0.0
    elif d3 >= 0 and d4 <= d3:
        w1, w2 = 1.0, 0.0
    elif d6 >= 0 and d5 <= d6:
        w1, w2 = 0.0, 1.0
    elif vc <= 0 and d1 >= 0 and d3 <= 0:
        w1, w2 = d1 / (d1 - d3), 0.0
    elif vb <= 0 and d2 >= 0 and d6 <= 0:
        w1, w2 = 0.0, d2 / (d2 - d6)
    elif va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
        w2 = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        w1 = 1 - w2
    else:
        total = va + vb + vc
        w1, w2 = (vb / total, vc / total) if total > 0 else (0.0, 0.0)
    x, y, z = wx - w1 * ux - w2 * vx, wy - w1 * uy - w2 * vy, wz - w1 * uz - w2 * vz
    return x * x + y * y + z * z, w1, w2
