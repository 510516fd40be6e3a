"""Omissions: highs that rays from a patch of the low pass through."""

import numpy as np

from ...base.array_types import I32
from ...base.kernel_types import Hit
from ...base.kernels import kernel
from ...base.records import Record, record_kind, view
from ..along_surface import SPREAD, distance_along
from ..embree import hit_along

OMISSION = np.dtype([(name, np.float64) for name in ("x", "y", "z", "radius", "object")])
OMISSIONS = record_kind({"omission": OMISSION, "spread": SPREAD})
MOST_PASSED = 64  # surfaces of left out highs that a ray goes through


@kernel
def left_out(
    t: int, ray: tuple[float, float, float, float, float, float, float, float], thing: int, modifiers: Record
) -> bool:
    """Whether object `thing` of the sculpt is left out for a ray of `make_ray` from triangle t."""
    ox, oy, oz, dx, dy, dz, outward, _ = ray
    omissions = view(modifiers, "omissions")
    numbers, spread = view(omissions, "omission"), view(omissions, "spread")
    starts, owner, parts = view(spread, "starts"), view(spread, "owner"), view(spread, "parts")
    x, y, z = ox + dx * outward, oy + dy * outward, oz + dz * outward
    for i in range(starts[t], starts[t + 1]):
        patch = numbers[owner[i]]
        if patch.object == thing and distance_along(parts[i], x, y, z) < patch.radius:
            return True
    return False


@kernel
def strike_beyond(
    t: int,
    tracer: int,
    scene: int,
    first: int,
    ray: tuple[float, float, float, float, float, float, float, float],
    objects: I32,
    modifiers: Record,
) -> Hit:
    """The first hit of a ray of triangle t that is not left out: length, u, v and triangle of the sculpt, -1 for none.

    `first` is the triangle with which the scene begins, objects (T,) int32 that of each triangle of the sculpt.
    """
    ox, oy, oz, dx, dy, dz, _, far = ray
    gone = 0.0
    for _ in range(MOST_PASSED):
        x, y, z = ox + gone * dx, oy + gone * dy, oz + gone * dz
        length, u, v, hit = hit_along(tracer, scene, x, y, z, dx, dy, dz, far - gone)
        if hit < 0:
            break
        gone += length
        if not left_out(t, ray, objects[first + hit], modifiers):
            return gone, u, v, first + hit
        gone += 1e-6 * far
        if gone >= far:
            break
    return far, 0.0, 0.0, np.int64(-1)
