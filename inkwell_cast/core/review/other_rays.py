"""What rays of another way would draw: trials that say whether a place looks wrong because of how its rays leave."""

import numpy as np

from ..base.array_types import F32, I64, U8, Bool
from ..base.kernels import kernel
from ..base.records import Record, view
from ..base.threads import in_batches
from ..cast.context import Context
from ..cast.shading_normal import shading_normal
from ..cast.texel import barycentrics_at, triangle_at
from ..flaws import Trial, Way
from ..mesh.normals import averaged, face_normals
from ..rays.embree import hit_along
from ..rays.ray import make_ray, point_on_low
from .as_seen import as_seen
from .best_on_low import Candidate, own_of, padded
from .worn_pictures import Pictures


def other_rays(contexts: list[Context], proof: bool) -> Trial:
    """A trial with what is cast for the sheets of a piece. It raises Cancelled."""

    def sums(way: Way, tried: list[U8]) -> list[tuple[F32, Bool]]:
        images, struck = [], []
        for context, open_to in zip(contexts, tried, strict=True):
            own, other = own_of(context).image(context), _struck(context, way, open_to)
            struck.append(np.isfinite(other.heights))
            images.append(padded(other.image(context, open_to * struck[-1].astype(np.uint8), own), context))
        seen = as_seen(contexts, [Pictures(list(images))], proof)[0]
        return list(zip(seen.sums, struck, strict=True))

    return sums


def _struck(context: Context, way: Way, tried: U8) -> Candidate:
    """What rays of another way strike from some texels; NaN at others, and where they miss."""
    low, shape = context.assembly.low, tried.shape
    faces = face_normals(low.positions, low.triangles)
    ways = averaged(low) if way == "averaged" else np.repeat(faces[:, None], 3, axis=1).astype(np.float32)
    ways = np.ascontiguousarray(ways[context.low.triangles])
    normals, heights = np.zeros((*shape, 3), np.float32), np.full(shape, np.nan, np.float32)
    records = context.low.record, context.cast.record, context.rays.record, context.sculpt.record
    rows, columns = np.nonzero(tried)

    def work(first: int, last: int) -> None:
        _strike(rows[first:last], columns[first:last], *records, ways, normals, heights)

    in_batches(len(rows), work, cancelled=context.warm.stopped)
    return Candidate(normals, heights)


@kernel
def _strike(
    rows: I64,
    columns: I64,
    low: Record,
    cast: Record,
    rays: Record,
    sculpt: Record,
    ways: F32,
    normals: F32,
    heights: F32,
) -> None:
    """Normals (H, W, 3) and heights (H, W) of the first fronts along rays that start and end as far off.

    ways (P, 3, 3) are where they come from at the corners of the low's triangles on the sheet.
    """
    pairs, firsts, tracers = view(rays, "pair"), view(sculpt, "first"), view(sculpt, "tracers")
    for i in range(len(rows)):
        y, x = rows[i], columns[i]
        t = triangle_at(x, y, cast)
        if t < 0:
            continue
        b0, b1, b2 = barycentrics_at(x, y, t, low, cast)
        _, _, _, _, _, _, out, far = make_ray(t, b0, b1, b2, rays)
        px, py, pz = point_on_low(t, b0, b1, b2, rays)
        w = ways[t]
        gx = b0 * w[0, 0] + b1 * w[1, 0] + b2 * w[2, 0]
        gy = b0 * w[0, 1] + b1 * w[1, 1] + b2 * w[2, 1]
        gz = b0 * w[0, 2] + b1 * w[1, 2] + b2 * w[2, 2]
        long = max(np.sqrt(gx * gx + gy * gy + gz * gz), 1e-30)
        gx, gy, gz = gx / long, gy / long, gz / long
        p = pairs[t]
        ox, oy, oz = px + out * gx, py + out * gy, pz + out * gz
        length, u, v, hit = hit_along(tracers[p, 0], tracers[p, 1], ox, oy, oz, -gx, -gy, -gz, far)
        if hit >= 0:
            nx, ny, nz = shading_normal(firsts[p] + hit, u, v, sculpt)
            normals[y, x, 0], normals[y, x, 1], normals[y, x, 2] = nx, ny, nz
            heights[y, x] = out - length
