"""Seam break: at a UV seam the rays of both sides strike different places of the sculpt, so a line shows."""

import numpy as np

from ..base.array_types import F64, I64
from ..base.figures import figure
from ..base.kernels import kernel
from ..base.records import Record, view
from ..cage.cage import rays_of
from ..cage.fit import cage_of
from ..cast.shading_normal import shading_normal
from ..mesh.adjacency import edges_of, seams_of
from ..rays.embree import hit_along
from ..rays.ray import make_ray
from . import offered_mends
from .flaw import Explanation, FlawRows
from .places_on_edges import places_on_edges, texel_of
from .texel_rows import TexelRows

KEY, TITLE = "seam", "Seam break"
ANGLE = 10.0  # degrees between the normals of both sides
APART = 1.5  # texels between the places that both sides strike


def find(seen: TexelRows) -> FlawRows:
    """Texels along seams where the sculpt's normals, as both sides strike them, differ and lie apart."""
    rows, angle, apart = _beside_seams(seen)

    def tell(region: I64) -> Explanation:
        gap, bend = figure(float(np.median(apart[region]))), float(np.median(angle[region]))
        return Explanation(
            f"Both sides of the seam strike places {gap} apart, where the sculpt has turned by {bend:.0f}°; what lies "
            "between is on neither.",
            "Average the rays at these edges, or those of the whole part.",
            lambda spot: [offered_mends.average_edges(spot), offered_mends.directions(spot, "averaged")],
        )

    return FlawRows(rows, tell)


def _beside_seams(seen: TexelRows) -> tuple[I64, F64, F64]:
    """Rows beside seams that break, by how many degrees, and how far apart both sides strike."""
    context, low = seen.context, seen.context.assembly.low
    edges = edges_of(low)
    seams = seams_of(low.uvs[context.recipe.sheet.channel].at_corners(), edges) & (edges.across >= 0)
    seams &= np.isin(np.arange(len(low.triangles)), context.low.triangles)[:, None]
    nothing = np.zeros(0, np.int64), np.zeros(0), np.zeros(0)
    if not seams.any() or not len(seen.x):
        return nothing
    along, texel = places_on_edges(seen, seams), texel_of(seen)
    t, k = along.triangle, along.side
    one, other = _along(k, along.share), _along(edges.side[t, k].astype(np.int64), 1 - along.share)
    across = edges.across[t, k].astype(np.int64)
    rays, sculpt = rays_of(context.assembly, cage_of(context.assembly, context.warm)), context.sculpt
    angle, apart = _compare(
        t,
        one,
        across,
        other,
        rays.record,
        sculpt.record,
    )
    broken = (angle > ANGLE) & (apart > APART * texel)
    if not broken.any():
        return nothing
    rows, near = along.at(broken).rows_beside(seen)
    return rows, angle[broken][near], apart[broken][near]


def _along(side: I64, share: F64) -> F64:
    """Barycentrics of places on edges, a share of the way from corner `side` to the next."""
    b = np.zeros((len(side), 3))
    row = np.arange(len(side))
    b[row, side], b[row, (side + 1) % 3] = 1 - share, share
    return b


@kernel
def _compare(t_1: I64, b_1: F64, t_2: I64, b_2: F64, rays: Record, sculpt: Record) -> tuple[F64, F64]:
    """Degrees between the normals that two rays strike, and how far apart those places lie; 0 where one misses."""
    angle, apart = np.zeros(len(t_1)), np.zeros(len(t_1))
    struck = np.empty((2, 6))
    pair, firsts = view(rays, "pair"), view(sculpt, "first")
    tracers = view(sculpt, "tracers")
    for i in range(len(t_1)):
        both = True
        for side in range(2):
            t, b = (t_1[i], b_1[i]) if side == 0 else (t_2[i], b_2[i])
            ox, oy, oz, dx, dy, dz, _, far = make_ray(t, b[0], b[1], b[2], rays)
            p = pair[t]
            length, u, v, hit = hit_along(tracers[p, 0], tracers[p, 1], ox, oy, oz, dx, dy, dz, far)
            both &= hit >= 0
            if hit >= 0:
                struck[side, 0], struck[side, 1], struck[side, 2] = shading_normal(firsts[p] + hit, u, v, sculpt)
                struck[side, 3], struck[side, 4] = ox + length * dx, oy + length * dy
                struck[side, 5] = oz + length * dz
        if not both:
            continue
        cosine = square = 0.0
        for c in range(3):
            cosine += struck[0, c] * struck[1, c]
            square += (struck[0, 3 + c] - struck[1, 3 + c]) ** 2
        angle[i], apart[i] = np.degrees(np.arccos(min(max(cosine, -1.0), 1.0))), np.sqrt(square)
    return angle, apart
