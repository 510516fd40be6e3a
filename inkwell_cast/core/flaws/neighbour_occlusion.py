"""Occlusion from a neighbour: shade that another pair casts, which stays in the map when that part is moved away."""

import numpy as np

from ..base.array_types import F32, F64, I32, I64, U64
from ..base.kernels import kernel
from ..base.sampling_sequence import cosine_direction, hashed, square_point
from ..cast.occluders import occluders_on
from ..cast.sheet_surroundings import points_of, unit_normals
from ..rays.embree import blocked
from ..settings.mends import Mend
from .flaw import Explanation, FlawRows, Spot
from .texel_rows import TexelRows

KEY, TITLE = "neighbour", "Occlusion from a neighbour"
BY_PART = WHOLE_SHEET = True  # one setting takes all of it away
SHARE = 0.25  # of the sky that other pairs hide
RAYS, MOST_ROWS = 32, 20_000
LIFT = 1e-4  # of the low's diagonal
SHADE = 45.0  # degrees: how wrong full shade where none should be looks
BAKED = {"occlusion", "bent"}


def find(seen: TexelRows) -> FlawRows:
    """Texels of which others than the own pair hide more than `SHARE` of the sky, where the recipe lets them."""
    context, recipe = seen.context, seen.context.recipe
    rows, hidden = np.zeros(0, np.int64), np.zeros(0)
    if recipe.occlusion.occluders.startswith("piece") and BAKED & set(recipe.output.maps):
        rows = np.flatnonzero(seen.struck > 0)
        rows = rows[:: -(-len(rows) // MOST_ROWS) or 1]
        at = seen.y[rows], seen.x[rows]
        both = [occluders_on(context, which).tracers for which in ("piece", "pair")]
        hidden = _hidden(  # type: ignore[call-arg]
            points_of(context)[at],
            unit_normals(context)[at],
            context.rays.pair[seen.triangle[rows]],
            *both,
            LIFT * context.assembly.low.diagonal,
            RAYS,
        )
        rows, hidden = rows[hidden > SHARE], hidden[hidden > SHARE]

    def tell(region: I64) -> Explanation:
        return Explanation(
            f"Parts of other pairs hide {hidden[region].mean():.0%} of the sky here in the mean; their shade stays "
            "in the map when they are moved away.",
            "Let only the own pair occlude.",
            mends,
        )

    def mends(spot: Spot) -> list[Mend]:
        alone = "pair x low" if recipe.occlusion.occluders.endswith("low") else "pair"
        return [Mend(name=spot.name, words="Let only the own pair occlude", occluders=alone)]  # type: ignore[arg-type]

    return FlawRows(rows, tell, SHADE * hidden)


@kernel
def _hidden(points: F32, normals: F32, pair: I32, piece: U64, alone: U64, lift: float, rays: int) -> F64:
    """The share of a cosine-weighted sky that the piece hides and the own pair does not."""
    out = np.zeros(len(points))
    for i in range(len(points)):
        nx, ny, nz = np.float64(normals[i, 0]), np.float64(normals[i, 1]), np.float64(normals[i, 2])
        x, y, z = points[i, 0] + lift * nx, points[i, 1] + lift * ny, points[i, 2] + lift * nz
        p, seed, count = pair[i], hashed(np.uint32(i)), 0
        for r in range(rays):
            u, v = square_point(r, seed)
            dx, dy, dz = cosine_direction(u, v, 1.0, nx, ny, nz)
            if blocked(piece[p, 0], piece[p, 1], x, y, z, dx, dy, dz, 1e30):
                count += not blocked(alone[p, 0], alone[p, 1], x, y, z, dx, dy, dz, 1e30)
        out[i] = count / rays
    return out
