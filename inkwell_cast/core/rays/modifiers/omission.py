"""Omissions: highs that rays from the low inside a ball pass through."""

import numpy as np

from ...base.array_types import I32
from ...base.kernel_types import Hit
from ...base.kernels import kernel
from ...base.records import Record, view
from ..embree import hit_along

OMISSION = np.dtype([(name, np.float64) for name in ("x", "y", "z", "radius", "object")])
MOST_PASSED = 64  # surfaces of left out highs that a ray goes through


@kernel
def left_out(ray: tuple[float, float, float, float, float, float, float, float], thing: int, modifiers: Record) -> bool:
    """Whether object `thing` of the sculpt is left out for a ray of `make_ray`."""
    ox, oy, oz, dx, dy, dz, outward, _ = ray
    omissions = view(modifiers, "omissions")
    for k in range(len(omissions)):
        ball = omissions[k]
        x, y, z = ox + dx * outward - ball.x, oy + dy * outward - ball.y, oz + dz * outward - ball.z
        if ball.object == thing and x * x + y * y + z * z < ball.radius**2:
            return True
    return False


@kernel
def strike_beyond(
    tracer: int,
    scene: int,
    first: int,
    ray: tuple[float, float, float, float, float, float, float, float],
    objects: I32,
    modifiers: Record,
) -> Hit:
    """The first hit of a ray whose object is not left out: length on it, u, v and triangle of the sculpt, -1 for none.

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
        if not left_out(ray, objects[first + hit], modifiers):
            return gone, u, v, first + hit
        gone += 1e-6 * far
        if gone >= far:
            break
    return far, 0.0, 0.0, np.int64(-1)
