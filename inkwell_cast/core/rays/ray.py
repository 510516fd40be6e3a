"""Rays: where they start, which way they go and how far, at any point of the low.

Reach and directions are interpolated from the corners of a face; what changes them at places is in `modifiers`.
`make_ray` is the one function that knows all of it.
"""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, F64, I32, I64, U8
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.records import Record, record_kind, record_of, view
from .modifiers.modifiers import MODIFIERS, Modifiers, modified_ray

RAYS = record_kind(
    {
        "points": (np.float32, 3, 3),
        "offsets": (np.float32, 3, 3),
        "inward": np.float32,
        "pair": np.int32,
        "flags": np.uint8,
        "modifiers": MODIFIERS,
    }
)


@dataclass(frozen=True, slots=True)
class Rays:
    """Where the rays of some triangles of the low start and what they may strike.

    points and offsets (P, 3, 3) float32, from each corner to the cage; inward (P,) float32; pair (P,) int32 is the row
    of the sculpt's tracers; flags (P,) uint8 say which modifiers touch a triangle. `record`, of the kind `RAYS`, is
    what kernels get; it keeps all of it, and the scenes of cage meshes, alive.
    """

    points: F32
    offsets: F32
    inward: F32
    pair: I32
    flags: U8
    record: Record


def rays_through(points: F32, offsets: F32, inward: F32, pair: I32, modifiers: Modifiers) -> Rays:
    """Rays of some triangles, with what modifies them."""
    points, offsets = np.ascontiguousarray(points), np.ascontiguousarray(offsets)
    inward, pair = np.ascontiguousarray(inward), np.ascontiguousarray(pair)
    flags = modifiers.flags
    record = record_of(
        RAYS,
        points=points,
        offsets=offsets,
        inward=inward,
        pair=pair,
        flags=flags,
        modifiers=modifiers.record(points, pair),
    )
    return Rays(points, offsets, inward, pair, flags, record)


def ray_at(rays: Rays, triangle: int, b: Vector) -> tuple[F64, F64, float, float]:
    """Start (3,), direction (3,), distance from start to the low and length of one ray."""
    ray = make_ray(triangle, *b, rays.record)
    return np.array(ray[:3]), np.array(ray[3:6]), float(ray[6]), float(ray[7])


def reach_at(rays: Rays, triangle: I64, b: F64) -> F32:
    """From the low to the cage at some places of it, vectors (N, 3) float32; b (N, 3) barycentrics."""
    return _reach_at(triangle, b, rays.record)[:, :3]  # type: ignore[no-any-return]


def ends_at(rays: Rays, triangle: I64, b: F64) -> F32:
    """Where the rays through some places of the low start and end, (N, 2, 3) float32."""
    reach = _reach_at(triangle, b, rays.record)
    low = np.einsum("nk,nkc->nc", b, rays.points[triangle])
    out, length = reach[:, :3], np.maximum(np.linalg.norm(reach[:, :3], axis=1, keepdims=True), 1e-30)
    return np.stack([low + out, low - out / length * reach[:, 3:]], axis=1).astype(np.float32)


@kernel
def _reach_at(triangle: I64, b: F64, rays: Record) -> F32:
    """From the low out to the start (3) and the inward reach of rays, (N, 4) float32."""
    reach = np.empty((len(triangle), 4), np.float32)
    for i in range(len(triangle)):
        ray = make_ray(triangle[i], b[i, 0], b[i, 1], b[i, 2], rays)
        for k in range(3):
            reach[i, k] = -ray[3 + k] * ray[6]
        reach[i, 3] = ray[7] - ray[6]
    return reach


@kernel(inline="always")
def make_ray(
    t: int, b0: float, b1: float, b2: float, rays: Record
) -> tuple[float, float, float, float, float, float, float, float]:
    """The ray through barycentrics b of triangle t, scene units; `rays` is a record of the kind `RAYS`.

    Start (3 numbers), unit direction (3), distance from the start to the low, and length.
    """
    offsets = view(rays, "offsets")
    ex = b0 * offsets[t, 0, 0] + b1 * offsets[t, 1, 0] + b2 * offsets[t, 2, 0]
    ey = b0 * offsets[t, 0, 1] + b1 * offsets[t, 1, 1] + b2 * offsets[t, 2, 1]
    ez = b0 * offsets[t, 0, 2] + b1 * offsets[t, 1, 2] + b2 * offsets[t, 2, 2]
    px, py, pz = point_on_low(t, b0, b1, b2, rays)
    out, inward = np.sqrt(ex * ex + ey * ey + ez * ez), np.float64(view(rays, "inward")[t])
    scale = 1 / out if out > 0 else 0.0
    ex, ey, ez = ex * scale, ey * scale, ez * scale
    flags = view(rays, "flags")[t]
    if flags:
        modifiers = view(rays, "modifiers")
        ex, ey, ez, out, inward = modified_ray(t, b1, b2, (px, py, pz), (ex, ey, ez), (out, inward), flags, modifiers)
    return px + ex * out, py + ey * out, pz + ez * out, -ex, -ey, -ez, out, out + inward


@kernel(inline="always")
def point_on_low(t: int, b0: float, b1: float, b2: float, rays: Record) -> Vector:
    """The point of the low with barycentrics b of triangle t, scene units."""
    points = view(rays, "points")
    return (
        b0 * points[t, 0, 0] + b1 * points[t, 1, 0] + b2 * points[t, 2, 0],
        b0 * points[t, 0, 1] + b1 * points[t, 1, 1] + b2 * points[t, 2, 1],
        b0 * points[t, 0, 2] + b1 * points[t, 1, 2] + b2 * points[t, 2, 2],
    )
