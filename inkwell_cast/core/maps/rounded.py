"""Rounded normal: the mean normal of the surfaces around a texel's hits, as if edges were rounded.

The layer holds that mean, which weighs each surface within a ball by its area. Lines evenly spread over the ball, in
all ways, cross every piece of surface in it as often as its area says, however it is turned: L. Santaló, "Integral
Geometry and Geometric Probability", 1976, chapter 14. What looks the other way, such as the far side of a thin wall, is
left out.
"""

import numpy as np

from ..base.array_types import F32, F64, AnyArray
from ..base.disk_arrays import on_disk, room
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.progress import Cancel, ShareDone
from ..base.records import Record, record_kind, record_of, view
from ..base.sampling_sequence import frame_about, further_point, points_of_texel, sphere_point, square_point, turn
from ..base.setting import scene_units
from ..cast.context import Context
from ..cast.hits import Hits
from ..cast.shading_normal import shading_normal
from ..cast.texel import triangle_at
from ..piece.occluders import Occluders
from ..rays.embree import hit_along
from ..settings.recipe import Recipe
from ..uv.rasterise import tile_box
from .denoise import denoised
from .hits_of_tile import over_tiles, point_of, samples_of, tiles_of, triangles_of, weights_at
from .light_paths import surroundings_of
from .normal import BACKGROUND, encoded
from .occlusion import bits_for
from .value_range import Derived

__all__ = ["BACKGROUND"]

KEY, LABEL = "rounded", "Rounded normal"
REASON = "Normals as if edges were rounded, in the low's tangent basis; for hard shapes without a sculpt."
LAYER, GROUP, SPACE = "rounded", "rounded", "linear"
EDGES = ("all", "convex", "concave")
MOST_CROSSED = 16  # surfaces along one line
AWAY = -0.7  # cosine to the hit's own normal: what looks farther away is another side
FLAT = 1e-3  # of the radius: what lies so near the hit's plane is neither an outer edge nor an inner one
STEP = 1e-4  # of the radius: how far behind a surface a line goes on
ROUND = record_kind(
    {"tracers": (np.uint64, 2), "first": np.int64}, rays=np.int64, bits=np.int64, radius=np.float64, edges=np.int64
)


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 3) float32: 0.5 x + 0.5; where nothing was struck the low's own normal."""
    assert layer is not None
    return Derived(encoded(context.cast, context.low, context.recipe.basis, layer, context.cast.struck))


CHANNELS, KIND = 3, np.float32


def cost(recipe: Recipe) -> float:
    return 2.0 * recipe.rounded.rays / recipe.sheet.samples


def prepare(context: Context) -> Occluders:
    return surroundings_of(context, context.recipe.rounded.surroundings)


def gather(
    context: Context, hits: Hits, ready: Occluders, out: AnyArray, progress: ShareDone, cancelled: Cancel
) -> None:
    own, first = context.recipe.rounded, context.sculpt.first[:-1]
    first = np.ascontiguousarray(first) if own.surroundings == "pair" else np.zeros(len(first), np.int64)
    around = record_of(
        ROUND,
        tracers=ready.tracers,
        first=first,
        rays=own.rays,
        bits=bits_for(own.rays),
        radius=own.radius * scene_units(own.unit, context.assembly.low.diagonal),
        edges=EDGES.index(own.edges),
    )
    arguments = (context.cast.record, context.rays.record, context.sculpt.record, around, out)
    over_tiles(hits, context.low.grid, _of_tiles, arguments, progress, cancelled)


def finish(context: Context, out: AnyArray, progress: ShareDone, cancelled: Cancel) -> AnyArray | None:
    """The layer denoised_layer, if the recipe says so; texels that struck nothing stay."""
    if not context.recipe.rounded.denoise:
        return None
    smooth = room(out.shape, out.dtype.type, on_disk(out))
    length = np.maximum(np.linalg.norm(out, axis=2), np.float32(1e-12))
    for c in range(CHANNELS):

        def tell(part: float, before: int = c) -> None:
            progress((before + part) / CHANNELS)

        smooth[..., c] = 2 * denoised(0.5 + 0.5 * out[..., c] / length, context, tell, cancelled) - 1
    smooth[context.cast.struck == 0] = 0
    return smooth


@kernel
def _of_tiles(
    first: int,
    last: int,
    hits: Record,
    grid: Record,
    cast: Record,
    rays: Record,
    sculpt: Record,
    around: Record,
    out: F32,
) -> None:
    """The mean normal around each texel's hits, into out (H, W, 3); the others are records."""
    tiles, triangle, side = tiles_of(hits), triangles_of(hits), grid.side
    pair, total = view(rays, "pair"), np.zeros(3)
    for k in range(first, last):
        x0, y0, columns, rows = tile_box(tiles[k], grid)
        for y in range(rows):
            for x in range(columns):
                begin, stride = samples_of(k, x, y, columns, hits, grid)
                start, seed = points_of_texel(x0 + x, y0 + y, 5, around.bits)
                struck = 0
                for s in range(side * side):
                    struck += triangle[begin + s // side * stride + s % side] >= 0
                if struck == 0:
                    continue
                each, taken = (around.rays + struck - 1) // struck, 0
                own = pair[triangle_at(x0 + x, y0 + y, cast)]
                for s in range(side * side):
                    n = begin + s // side * stride + s % side
                    if triangle[n] < 0:
                        continue
                    place, _ = point_of(n, triangle[n], 0.0, hits, sculpt)
                    _, b1, b2 = weights_at(n, hits)
                    normal = shading_normal(triangle[n], b1, b2, sculpt)
                    total[:] = 0
                    for r in range(each):
                        _cross(start + taken * struck + r, seed, place, normal, own, sculpt, around, total)
                    taken += 1
                    size = np.sqrt(total[0] * total[0] + total[1] * total[1] + total[2] * total[2])
                    for c in range(3):
                        out[y0 + y, x0 + x, c] += np.float32(total[c] / size if size > 0 else normal[c])


@kernel(error_model="numpy")
def _cross(
    index: int, seed: int, place: Vector, normal: Vector, pair: int, sculpt: Record, around: Record, total: F64
) -> None:
    """Add the normals of all that one line through the ball about a place crosses to total (3,)."""
    tracer = view(around, "tracers")[pair]
    offset = view(around, "first")[pair]
    u, v = square_point(index, seed)
    dx, dy, dz = sphere_point(u, v)
    ax, ay, az, bx, by, bz = frame_about(dx, dy, dz)
    u, v = further_point(index, seed, 1)
    r, (c, s) = around.radius * np.sqrt(u), turn(v)
    half = np.sqrt(max(around.radius * around.radius - r * r, 0.0))
    px = place[0] + r * (c * ax + s * bx) - half * dx
    py = place[1] + r * (c * ay + s * by) - half * dy
    pz = place[2] + r * (c * az + s * bz) - half * dz
    gone = 0.0
    for _ in range(MOST_CROSSED):
        x, y, z = px + gone * dx, py + gone * dy, pz + gone * dz
        t, b1, b2, hit = hit_along(tracer[0], tracer[1], x, y, z, dx, dy, dz, 2 * half - gone)
        if hit < 0:
            return
        nx, ny, nz = shading_normal(hit + offset, np.float64(b1), np.float64(b2), sculpt)
        above = (x + t * dx - place[0]) * normal[0] + (y + t * dy - place[1]) * normal[1]
        above += (z + t * dz - place[2]) * normal[2]
        counts = around.edges == 0 or abs(above) < FLAT * around.radius or (above < 0) == (around.edges == 1)
        if counts and nx * normal[0] + ny * normal[1] + nz * normal[2] > AWAY:
            total[0] += nx
            total[1] += ny
            total[2] += nz
        gone += t + STEP * around.radius
