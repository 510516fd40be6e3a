"""What straightening changed: how much of the low, and by how many degrees."""

import numpy as np
from pydantic import BaseModel

from ..base.array_types import F64, I64
from ..base.kernels import kernel
from ..base.records import Record
from ..mesh.mesh import corner_positions
from ..mesh.surface_samples import spread_over
from ..piece.piece import Assembly
from ..rays.ray import Rays, make_ray

PROBES = 40_000
TURNED = 1.0  # degrees: what counts as changed


class Straightened(BaseModel):
    """What straightening changed: the share of the low's surface, and by how many degrees rays turned there at most."""

    share: float
    most: float
    parts: list[str]


def straightened(assembly: Assembly, rays: Rays, without: Rays) -> Straightened:
    """What was changed, from the rays of the whole low and those without straightening, at well-spread places."""
    points = corner_positions(assembly.low).astype(np.float64)
    places, rows, b = spread_over(points, np.arange(len(points)), PROBES)
    angle = _apart(rows, b, rays.record, without.record)
    turned = angle > TURNED
    owners = np.unique(assembly.low.objects[rows[turned]])
    return Straightened(
        share=float(turned.mean()) if len(places) else 0.0,
        most=float(angle.max(initial=0.0)),
        parts=[assembly.keys[n] for n in owners],
    )


@kernel
def _apart(triangle: I64, b: F64, rays: Record, others: Record) -> F64:
    """Degrees between the directions of two ray fields at barycentrics b (N, 3) of triangles (N,)."""
    out = np.empty(len(triangle))
    for i in range(len(triangle)):
        one = make_ray(triangle[i], b[i, 0], b[i, 1], b[i, 2], rays)
        two = make_ray(triangle[i], b[i, 0], b[i, 1], b[i, 2], others)
        cosine = one[3] * two[3] + one[4] * two[4] + one[5] * two[5]
        out[i] = np.degrees(np.arccos(min(max(cosine, -1.0), 1.0)))
    return out
