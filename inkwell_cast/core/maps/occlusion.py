"""Ambient occlusion: white where every ray is free.

The layer holds the hidden share and the mean free direction. From each hit, lifted along the sculpt's geometric normal,
rays leave about its shading normal, cosine-weighted and well spread; those that would go into the surface itself are
left out. A ray counts with a falloff of the distance at which something stops it. In "low" mode rays leave from the low
and strike only lows.
"""

import numpy as np

from ..base.array_types import F32, AnyArray
from ..base.disk_arrays import on_disk, room
from ..base.kernels import kernel
from ..base.progress import Cancel, ShareDone
from ..base.records import Record, record_of, view
from ..base.sampling_sequence import points_of_texel
from ..base.setting import scene_units
from ..cast.context import Context
from ..cast.hits import Hits
from ..cast.occluders import occluders_on
from ..cast.shading_normal import shading_normal
from ..cast.texel import barycentrics_at, triangle_at
from ..mesh.normals import face_normal
from ..piece.occluders import Occluders
from ..rays.ray import point_on_low
from ..settings.recipe import Recipe
from ..uv.rasterise import tile_box
from .denoise import denoised
from .hits_of_tile import over_tiles, point_of, samples_of, tiles_of, triangles_of, weights_at
from .ray_bundle import AROUND, add_hit, empty_bundle, look
from .value_range import Derived

KEY, LABEL = "occlusion", "Occlusion"
REASON = "How much of the sky above a texel is free, by rays."
LAYER, GROUP, SPACE = "occlusion", "occlusion", "linear"
BACKGROUND = (1.0,)


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 1) float32: the free share, 0 to 1; white where nothing was struck."""
    assert layer is not None
    free: F32 = 1 - layer[..., 0]
    if context.recipe.occlusion.occluders != "low":
        free[context.cast.struck == 0] = 1
    there = free[context.cast.struck > 0]
    mean, darkest = float(there.mean()) if len(there) else 1.0, float(np.min(there, initial=1))
    return Derived(free[..., None], {"mean": mean, "darkest": darkest})


CHANNELS, KIND = 4, np.float32  # the share that is occluded, and the mean free direction times its weight
LIFT = 1e-5  # of the low's diagonal
FALLOFFS = ("none", "linear", "square")


def cost(recipe: Recipe) -> float:
    passes = len(recipe.occlusion.occluders.split(" x "))
    return passes * recipe.occlusion.rays / recipe.sheet.samples


def prepare(context: Context) -> list[tuple[str, Occluders]]:
    """What occludes, pass by pass; their free shares are multiplied."""
    return [(which, occluders_on(context, which)) for which in context.recipe.occlusion.occluders.split(" x ")]


def gather(
    context: Context,
    hits: Hits,
    ready: list[tuple[str, Occluders]],
    out: AnyArray,
    progress: ShareDone,
    cancelled: Cancel,
) -> None:
    share = 1 / len(ready)
    look_around(context, hits, *ready[0], out, lambda part: progress(part * share), cancelled)
    if len(ready) > 1:
        other = np.zeros_like(out)
        look_around(context, hits, *ready[1], other, lambda part: progress(share + part * share), cancelled)
        touched = other.any(axis=2)
        out[touched, 0] = 1 - (1 - out[touched, 0]) * (1 - other[touched, 0])


def finish(context: Context, out: AnyArray, progress: ShareDone, cancelled: Cancel) -> AnyArray | None:
    """The layer with its shade smoothed, if the recipe says so; the free direction stays as the rays found it."""
    if not context.recipe.occlusion.denoise:
        return None
    smooth = room(out.shape, out.dtype.type, on_disk(out))
    smooth[...] = out
    smooth[..., 0] = denoised(out[..., 0], context, progress, cancelled)
    return smooth


def look_around(
    context: Context, hits: Hits, which: str, ready: Occluders, out: AnyArray, progress: ShareDone, cancelled: Cancel
) -> None:
    """What some occluders hide, from the low in "low" mode, else from the hits, into as many channels as `out` has."""
    settings, diagonal = context.recipe.occlusion, context.assembly.low.diagonal
    far = settings.distance * scene_units(settings.unit, diagonal) or (1e30 if settings.falloff == "none" else diagonal)
    widest = np.sin(np.radians(min(settings.cone, 180.0) / 2))
    around = record_of(
        AROUND,
        tracers=ready.tracers,
        rays=settings.rays,
        bits=bits_for(settings.rays),
        far=far,
        falloff=FALLOFFS.index(settings.falloff),
        widest=widest,
        lift=LIFT * diagonal,
        noise=settings.noise,
    )
    if which == "low":
        arguments = (context.low.record, context.cast.record, context.rays.record, around, out)
        over_tiles(hits, context.low.grid, _of_low, arguments, progress, cancelled, empty_bundle)
        return
    arguments = (context.cast.record, context.rays.record, context.sculpt.record, around, out)
    over_tiles(hits, context.low.grid, _of_sculpt, arguments, progress, cancelled, empty_bundle)


def bits_for(rays: int) -> int:
    """How many bits count the rays of a texel."""
    return min((rays - 1).bit_length(), 16)


@kernel
def _of_sculpt(
    first: int,
    last: int,
    hits: Record,
    grid: Record,
    cast: Record,
    rays: Record,
    sculpt: Record,
    around: Record,
    out: F32,
    bundle: Record,
) -> None:
    """What is around the hits of each texel, into out (H, W, channels); the others are records."""
    tiles, triangle, side = tiles_of(hits), triangles_of(hits), grid.side
    pair = view(rays, "pair")
    for k in range(first, last):
        x0, y0, columns, rows = tile_box(tiles[k], grid)
        for y in range(rows):
            for x in range(columns):
                begin, stride = samples_of(k, x, y, columns, hits, grid)
                for s in range(side * side):
                    n = begin + s // side * stride + s % side
                    if triangle[n] >= 0:
                        place, face = point_of(n, triangle[n], around.lift, hits, sculpt)
                        _, b1, b2 = weights_at(n, hits)
                        add_hit(place, shading_normal(triangle[n], b1, b2, sculpt), face, bundle)
                if bundle.hits:
                    start, seed = points_of_texel(x0 + x, y0 + y, 1, around.bits)
                    look(start, seed, pair[triangle_at(x0 + x, y0 + y, cast)], around, bundle)
                    _keep(out[y0 + y, x0 + x], bundle)


@kernel
def _of_low(
    first: int,
    last: int,
    hits: Record,
    grid: Record,
    low: Record,
    cast: Record,
    rays: Record,
    around: Record,
    out: F32,
    bundle: Record,
) -> None:
    """What is around each texel of the low itself, into out (H, W, channels); the others are records."""
    tiles, pair = tiles_of(hits), view(rays, "pair")
    points = view(rays, "points")
    normals = view(low, "normals")
    for k in range(first, last):
        x0, y0, columns, rows = tile_box(tiles[k], grid)
        for y in range(y0, y0 + rows):
            for x in range(x0, x0 + columns):
                t = triangle_at(x, y, cast)
                if t < 0:
                    continue
                b0, b1, b2 = barycentrics_at(x, y, t, low, cast)
                gx, gy, gz = face_normal(points[t, 0], points[t, 1], points[t, 2])
                px, py, pz = point_on_low(t, b0, b1, b2, rays)
                n = normals[t]
                nx = b0 * n[0, 0] + b1 * n[1, 0] + b2 * n[2, 0]
                ny = b0 * n[0, 1] + b1 * n[1, 1] + b2 * n[2, 1]
                nz = b0 * n[0, 2] + b1 * n[1, 2] + b2 * n[2, 2]
                length = np.sqrt(nx * nx + ny * ny + nz * nz)
                if length == 0:
                    continue
                place = (px + around.lift * gx, py + around.lift * gy, pz + around.lift * gz)
                add_hit(place, (nx / length, ny / length, nz / length), (gx, gy, gz), bundle)
                begin, seed = points_of_texel(x, y, 1, around.bits)
                look(begin, seed, pair[t], around, bundle)
                _keep(out[y, x], bundle)


@kernel
def _keep(texel: F32, bundle: Record) -> None:
    if bundle.seen:
        texel[0] = bundle.shade / bundle.seen
        for c in range(1, len(texel)):
            texel[c] = bundle.free[c - 1] / bundle.seen
