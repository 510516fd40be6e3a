"""The closest point of a triangle and of a segment."""

import numpy as np

from ..base.array_types import AnyArray
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.records import Record

SEGMENT = np.dtype([(name, np.float64) for name in ("ax", "ay", "az", "bx", "by", "bz")])  # its two ends


@kernel
def closest_on_triangle(px: float, py: float, pz: float, corners: AnyArray, k: int) -> Vector:
    """The point nearest to p of triangle k of corners (K, 3, 3): (squared distance, w1, w2), weights of corners 1, 2.

    By the regions of its corners and edges: C. Ericson, "Real-Time Collision Detection" (2005), 5.1.5.
    """
    c = corners[k]
    ux, uy, uz = c[1, 0] - c[0, 0], c[1, 1] - c[0, 1], c[1, 2] - c[0, 2]
    vx, vy, vz = c[2, 0] - c[0, 0], c[2, 1] - c[0, 1], c[2, 2] - c[0, 2]
    wx, wy, wz = px - c[0, 0], py - c[0, 1], pz - c[0, 2]
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


@kernel
def distance_to_segment(x: float, y: float, z: float, segment: Record) -> float:
    """Distance of a place from a segment, a record of the kind `SEGMENT`."""
    ux, uy, uz = segment.bx - segment.ax, segment.by - segment.ay, segment.bz - segment.az
    wx, wy, wz = x - segment.ax, y - segment.ay, z - segment.az
    square = ux * ux + uy * uy + uz * uz
    along = min(max((wx * ux + wy * uy + wz * uz) / square, 0.0), 1.0) if square > 0 else 0.0
    wx, wy, wz = wx - along * ux, wy - along * uy, wz - along * uz
    return np.sqrt(wx * wx + wy * wy + wz * wz)


@kernel
def distance_between_segments(p: AnyArray, q: AnyArray, segment: Record) -> float:
    """How far the segment from p to q, (3,) each, lies from one of the kind `SEGMENT`.

    By the nearest points of both lines, held to their ends: C. Ericson, "Real-Time Collision Detection" (2005), 5.1.9.
    """
    ux, uy, uz = q[0] - p[0], q[1] - p[1], q[2] - p[2]
    vx, vy, vz = segment.bx - segment.ax, segment.by - segment.ay, segment.bz - segment.az
    wx, wy, wz = p[0] - segment.ax, p[1] - segment.ay, p[2] - segment.az
    uu, vv, uv = ux * ux + uy * uy + uz * uz, vx * vx + vy * vy + vz * vz, ux * vx + uy * vy + uz * vz
    uw, vw = ux * wx + uy * wy + uz * wz, vx * wx + vy * wy + vz * wz
    bent = uu * vv - uv * uv
    s = min(max((uv * vw - uw * vv) / bent, 0.0), 1.0) if bent > 1e-12 * uu * vv else 0.0
    t = (uv * s + vw) / vv if vv > 0 else 0.0
    if t < 0 or t > 1 or vv == 0:
        t = min(max(t, 0.0), 1.0)
        s = min(max((uv * t - uw) / uu, 0.0), 1.0) if uu > 0 else 0.0
    x, y, z = wx + s * ux - t * vx, wy + s * uy - t * vy, wz + s * uz - t * vz
    return np.sqrt(x * x + y * y + z * z)
