"""Rays: where they start, which way they go and how far, at any point of the low.

Reach and directions are interpolated from the corners of a face; what is special at places of it is in `special`.
`make_ray` is the one place that knows all of it.
"""

from dataclasses import dataclass

import numba
import numpy as np

from ..base.array_types import F32, F64, I32, I64
from .modifiers.special import Special, laid_flat, special_ray


@dataclass(frozen=True, slots=True)
class Rays:
    """Where the rays of some triangles of the low start and what they may strike.

    points and offsets (P, 3, 3) float32, from each corner to the cage; inward (P,) float32; pair (P,) int32 is the row
    of the sculpt's tracers. special (P + 2,) int64 says which parts of `Special` have their say in a triangle, and ends
    in the addresses of the two arrays that hold those; it keeps them, and the scenes of cage meshes, alive.
    """

    points: F32
    offsets: F32
    inward: F32
    pair: I32
    special: I64

    @property
    def arrays(self) -> tuple[F32, F32, F32, I64]:
        """What `make_ray` takes after the barycentrics."""
        return self.points, self.offsets, self.inward, self.special


def rays_through(points: F32, offsets: F32, inward: F32, pair: I32, own: Special) -> Rays:
    """Rays of some triangles, with what is special on them."""
    return Rays(points, offsets, inward, pair, laid_flat(points, pair, own))


def ray_at(rays: Rays, triangle: int, b: tuple[float, float, float]) -> tuple[F64, F64, float, float]:
    """Start (3,), direction (3,), distance from start to the low and length of one ray."""
    ray = make_ray(triangle, *b, *rays.arrays)
    return np.array(ray[:3]), np.array(ray[3:6]), float(ray[6]), float(ray[7])


def reach_at(rays: Rays, triangle: I64, b: F64) -> F32:
    """From the low to the cage at some places of it, vectors (N, 3) float32; b (N, 3) barycentrics."""
    return _reach_at(triangle, b, *rays.arrays)[:, :3]  # type: ignore[no-any-return]


def ends_at(rays: Rays, triangle: I64, b: F64) -> F32:
    """Where the rays through some places of the low start and end, (N, 2, 3) float32."""
    reach = _reach_at(triangle, b, *rays.arrays)
    low = np.einsum("nk,nkc->nc", b, rays.points[triangle])
    out, length = reach[:, :3], np.maximum(np.linalg.norm(reach[:, :3], axis=1, keepdims=True), 1e-30)
    return np.stack([low + out, low - out / length * reach[:, 3:]], axis=1).astype(np.float32)


@numba.njit(cache=True, nogil=True)
def _reach_at(triangle, b, points, offsets, inward, special):  # type: ignore[no-untyped-def]
    found = np.empty((len(triangle), 4), np.float32)
    for i in range(len(triangle)):
        ray = make_ray(triangle[i], b[i, 0], b[i, 1], b[i, 2], points, offsets, inward, special)
        for k in range(3):
            found[i, k] = -ray[3 + k] * ray[6]
        found[i, 3] = ray[7] - ray[6]
    return found


@numba.njit(cache=True, nogil=True, inline="always")
def make_ray(t, b0, b1, b2, points, offsets, inward, special):  # type: ignore[no-untyped-def]
    """Start, direction, distance from start to the low, and length of the ray through barycentrics b of triangle t."""
    ex = b0 * offsets[t, 0, 0] + b1 * offsets[t, 1, 0] + b2 * offsets[t, 2, 0]
    ey = b0 * offsets[t, 0, 1] + b1 * offsets[t, 1, 1] + b2 * offsets[t, 2, 1]
    ez = b0 * offsets[t, 0, 2] + b1 * offsets[t, 1, 2] + b2 * offsets[t, 2, 2]
    px = b0 * points[t, 0, 0] + b1 * points[t, 1, 0] + b2 * points[t, 2, 0]
    py = b0 * points[t, 0, 1] + b1 * points[t, 1, 1] + b2 * points[t, 2, 1]
    pz = b0 * points[t, 0, 2] + b1 * points[t, 1, 2] + b2 * points[t, 2, 2]
    out, below = np.sqrt(ex * ex + ey * ey + ez * ez), np.float64(inward[t])
    scale = 1 / out if out > 0 else 0.0
    ex, ey, ez = ex * scale, ey * scale, ez * scale
    if special[t]:
        ex, ey, ez, out, below = special_ray(t, b1, b2, px, py, pz, ex, ey, ez, out, below, special)
    return px + ex * out, py + ey * out, pz + ez * out, -ex, -ey, -ez, out, out + below
