"""One ray traced as a cast traces it: what it strikes, past highs that are left out there."""

import numpy as np

from ..base.array_types import F64
from ..base.kernel_types import Hit
from ..base.kernels import kernel
from ..base.records import Record, view
from ..mesh.normals import face_normal
from ..piece.sculpt import Sculpt
from ..rays.embree import hit_along
from ..rays.modifiers.modifiers import HAS_OMISSIONS, IS_NEAREST
from ..rays.modifiers.omission import MOST_PASSED, left_out, strike_beyond
from ..rays.ray import Rays

ALIKE = 0.9999  # cosine between two ways that find the same


@kernel(inline="always")
def trace(
    t: int, ray: tuple[float, float, float, float, float, float, float, float], rays: Record, sculpt: Record
) -> Hit:
    """What a ray of `make_ray` of triangle t strikes: length on it, u, v and triangle of the sculpt, -1 for nothing.

    `rays` and `sculpt` are records of the kinds `RAYS` and `SCULPT`.
    """
    pair = view(rays, "pair")[t]
    tracer = view(sculpt, "tracers")[pair]
    first = view(sculpt, "first")[pair]
    flags = view(rays, "flags")[t]
    if flags & IS_NEAREST:
        return _nearest(t, ray, rays, sculpt)
    if flags & HAS_OMISSIONS:
        objects = view(sculpt, "objects")
        return strike_beyond(t, tracer[0], tracer[1], first, ray, objects, view(rays, "modifiers"))
    length, u, v, hit = hit_along(tracer[0], tracer[1], ray[0], ray[1], ray[2], ray[3], ray[4], ray[5], ray[7])
    return np.float64(length), np.float64(u), np.float64(v), first + hit if hit >= 0 else np.int64(-1)


@kernel
def _nearest(
    t: int, ray: tuple[float, float, float, float, float, float, float, float], rays: Record, sculpt: Record
) -> Hit:
    """What is nearest to the low of all that the ray, and one at right angles to its face, passes.

    Highs that are left out for the ray count on neither. The length is that on the ray to the same height.
    """
    points = view(rays, "points")[t]
    nx, ny, nz = face_normal(points[0], points[1], points[2])
    ox, oy, oz, dx, dy, dz, out, far = ray
    px, py, pz = ox + dx * out, oy + dy * out, oz + dz * out
    upright = (px + nx * out, py + ny * out, pz + nz * out, -nx, -ny, -nz, out, far)
    near, u, v, hit = _nearest_on(t, ray, rays, sculpt)
    if dx * nx + dy * ny + dz * nz > -ALIKE:
        other, u2, v2, hit2 = _nearest_on(t, upright, rays, sculpt)
        if hit2 >= 0 and (hit < 0 or abs(out - other) < abs(out - near)):
            return other, u2, v2, hit2
    return near, u, v, hit


@kernel
def _nearest_on(
    t: int, ray: tuple[float, float, float, float, float, float, float, float], rays: Record, sculpt: Record
) -> Hit:
    """What is nearest to the low of all that one ray passes."""
    pair, omits = view(rays, "pair")[t], view(rays, "flags")[t]
    tracer = view(sculpt, "tracers")[pair]
    first = view(sculpt, "first")[pair]
    objects = view(sculpt, "objects")
    ox, oy, oz, dx, dy, dz, out, far = ray
    near, near_u, near_v, nearest = far, 0.0, 0.0, np.int64(-1)
    gone = 0.0
    for _ in range(MOST_PASSED):
        x, y, z = ox + gone * dx, oy + gone * dy, oz + gone * dz
        length, u, v, hit = hit_along(tracer[0], tracer[1], x, y, z, dx, dy, dz, far - gone)
        if hit < 0:
            break
        gone += length
        skipped = omits & HAS_OMISSIONS and left_out(t, ray, objects[first + hit], view(rays, "modifiers"))
        if not skipped and (nearest < 0 or abs(out - gone) < abs(out - near)):
            near, near_u, near_v, nearest = gone, np.float64(u), np.float64(v), first + hit
        if gone > out:  # below the low all that follows is farther
            break
        gone += 1e-6 * far
    return near, near_u, near_v, nearest


def strike(rays: Rays, sculpt: Sculpt, triangle: int, start: F64, way: F64, out: float, far: float) -> Hit:
    """What the ray of a triangle strikes in a cast: length on it, u, v and triangle of the sculpt, -1 for nothing."""
    ray = (*start.tolist(), *way.tolist(), float(out), float(far))
    length, u, v, hit = trace(triangle, ray, rays.record, sculpt.record)  # type: ignore[call-arg]
    return float(length), float(u), float(v), int(hit)
