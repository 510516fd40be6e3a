"""One ray traced as a cast traces it: what it strikes, past highs that are left out there."""

import numba
import numpy as np

from ..base.array_types import F64
from ..base.borrowed_arrays import block
from ..piece.sculpt import Sculpt
from ..rays.embree import hit_along
from ..rays.modifiers.modifiers import HAS_OMISSIONS, MODIFIERS
from ..rays.modifiers.omission import strike_beyond
from ..rays.ray import Rays


@numba.njit(cache=True, nogil=True, inline="always")
def trace(t, ray, rays, sculpt):  # type: ignore[no-untyped-def]
    """What a ray of `make_ray` of triangle t strikes: length on it, u, v and triangle of the sculpt, -1 for nothing.

    `rays` and `sculpt` are records of the kinds `RAYS` and `SCULPT`.
    """
    pair = block(rays.pair, rays.pair_count, np.int32)[t]
    tracer = block(sculpt.tracers, (sculpt.tracers_count, 2), np.uint64)[pair]
    first = block(sculpt.first, sculpt.first_count, np.int64)[pair]
    if block(rays.flags, rays.flags_count, np.uint8)[t] & HAS_OMISSIONS:
        objects = block(sculpt.objects, sculpt.objects_count, np.int32)
        return strike_beyond(tracer[0], tracer[1], first, ray, objects, block(rays.modifiers, 1, MODIFIERS)[0])
    length, u, v, hit = hit_along(tracer[0], tracer[1], ray[0], ray[1], ray[2], ray[3], ray[4], ray[5], ray[7])
    return np.float64(length), np.float64(u), np.float64(v), first + hit if hit >= 0 else np.int64(-1)


def strike(
    rays: Rays, sculpt: Sculpt, triangle: int, start: F64, way: F64, out: float, far: float
) -> tuple[float, float, float, int]:  # fmt: skip
    """What the ray of a triangle strikes in a cast: length on it, u, v and triangle of the sculpt, -1 for nothing."""
    ray = (*start.tolist(), *way.tolist(), float(out), float(far))
    length, u, v, hit = trace(triangle, ray, rays.record, sculpt.record)  # type: ignore[call-arg]
    return float(length), float(u), float(v), int(hit)
