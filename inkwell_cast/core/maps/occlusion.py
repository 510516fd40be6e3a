"""Ambient occlusion: white where every ray is free.

The layer holds the hidden share and the mean free direction. From each hit, lifted along the sculpt's geometric normal,
rays leave about its shading normal, cosine-weighted and well spread; those that would go into the surface itself are
left out. A ray counts with a falloff of the distance at which something stops it. In "low" mode rays leave from the low
and strike only lows.
"""

import numba
import numpy as np

from ..base.array_types import F32, Any_
from ..base.disk_arrays import on_disk, room
from ..base.sampling_sequence import cosine_direction, points_of_texel, square_point
from ..base.setting import scene_units
from ..cast.context import Context
from ..cast.hits import Hits
from ..cast.occluders import Occluders, occluders_on
from ..cast.shading_normal import shading_normal
from ..rays.embree import blocked, hit_along
from ..settings.recipe import Recipe
from ..uv.rasterise import texel_barycentrics
from .denoise import denoised
from .derived import Derived
from .hits_of_tile import Cancel, Progress, face_normal, hits_in, over_tiles, point_of, tile_box

KEY, LABEL = "occlusion", "Occlusion"
REASON = "How much of the sky above a texel is free, by rays."
LAYER, GROUP, SPACE = "occlusion", "occlusion", "linear"
BACKGROUND = (1.0,)


def derive(context: Context, layer: Any_ | None) -> Derived:
    """(H, W, 1) float32: the free share, 0 to 1; white where nothing was struck."""
    assert layer is not None
    free: F32 = 1 - layer[..., 0]
    if context.recipe.occlusion.occluders != "low":
        free[context.cast.struck == 0] = 1
    own = free[context.cast.struck > 0]
    return Derived(
        free[..., None], {"mean": float(own.mean()) if len(own) else 1.0, "darkest": float(np.min(own, initial=1))}
    )


CHANNELS, KIND = 4, np.float32  # the share that is occluded, and the mean free direction times its weight
LIFT = 1e-5  # of the low's diagonal
FALLOFFS = ("none", "linear", "square")


def depends(recipe: Recipe) -> object:
    return recipe.occlusion.model_dump()


def cost(recipe: Recipe) -> float:
    passes = len(recipe.occlusion.occluders.split(" x "))
    return passes * recipe.occlusion.rays / recipe.sheet.samples


def prepare(context: Context) -> list[tuple[str, Occluders]]:
    """What occludes, pass by pass; their free shares are multiplied."""
    return [(which, occluders_on(context, which)) for which in context.recipe.occlusion.occluders.split(" x ")]


def gather(
    context: Context, hits: Hits, ready: list[tuple[str, Occluders]], out: Any_, progress: Progress, cancelled: Cancel
) -> None:
    share = 1 / len(ready)
    look_around(context, hits, *ready[0], out, lambda part: progress(part * share), cancelled)
    if len(ready) > 1:
        other = np.zeros_like(out)
        look_around(context, hits, *ready[1], other, lambda part: progress(share + part * share), cancelled)
        touched = other.any(axis=2)
        out[touched, 0] = 1 - (1 - out[touched, 0]) * (1 - other[touched, 0])


def finish(context: Context, out: Any_, progress: Progress, cancelled: Cancel) -> Any_ | None:
    """The layer with its shade smoothed, if the recipe says so; the free direction stays as the rays found it."""
    if not context.recipe.occlusion.denoise:
        return None
    smooth = room(out.shape, out.dtype.type, on_disk(out))
    smooth[...] = out
    smooth[..., 0] = denoised(out[..., 0], context, progress, cancelled)
    return smooth


def look_around(
    context: Context, hits: Hits, which: str, ready: Occluders, out: Any_, progress: Progress, cancelled: Cancel
) -> None:
    """What some occluders hide, from the low in "low" mode, else from the hits, into as many channels as `out` has."""
    recipe, low, cast, grid = context.assembly.recipe, context.low, context.cast, context.low.grid
    own, diagonal = recipe.occlusion, context.assembly.low.diagonal
    far = own.distance * scene_units(own.unit, diagonal) or (1e30 if own.falloff == "none" else diagonal)
    widest = np.sin(np.radians(min(own.cone, 180.0) / 2))
    common = (own.rays, bits_for(own.rays), far, FALLOFFS.index(own.falloff), widest, LIFT * diagonal, out)
    mesh, pair = context.sculpt.mesh, context.rays.pair
    assert mesh.normals is not None
    if which == "low":
        of_low = (
            cast.low_triangle, cast.sample, grid.shift, grid.corners, context.rays.points, low.normals, pair,
            ready.tracers, ready.blockers, *common,
        )  # fmt: skip
        over_tiles(hits, grid, _of_low, of_low, progress, cancelled)
        return
    arguments = (
        cast.low_triangle, pair, mesh.positions, mesh.triangles, mesh.normals.values, mesh.normals.corners,
        ready.tracers, ready.blockers, *common,
    )  # fmt: skip
    over_tiles(hits, grid, _of_sculpt, arguments, progress, cancelled)


def bits_for(rays: int) -> int:
    """How many bits count the rays of a texel."""
    return min((rays - 1).bit_length(), 16)


@numba.njit(cache=True, nogil=True)
def _of_sculpt(  # type: ignore[no-untyped-def]
    tiles, starts, triangle, uv, across, width, height, side, low_triangle, pair, positions, triangles,
    normals, normal_rows, tracers, blockers, rays, bits, far, falloff, widest, lift, out,
):  # fmt: skip
    sums = np.zeros(5)
    for k in range(len(tiles)):
        x0, y0, columns, rows = tile_box(tiles[k], across, width, height)
        for y in range(rows):
            for x in range(columns):
                stride = columns * side
                first = starts[k] + y * side * stride + x * side
                count = hits_in(first, stride, side, triangle)
                if not count:
                    continue
                each = (rays + count - 1) // count
                taken, seed = points_of_texel(x0 + x, y0 + y, 1, bits)
                p = pair[low_triangle[y0 + y, x0 + x]]
                sums[:] = 0
                for j in range(side):
                    for i in range(side):
                        n = first + j * stride + i
                        t = triangle[n]
                        if t < 0:
                            continue
                        px, py, pz, gx, gy, gz, b1, b2 = point_of(n, t, uv, positions, triangles, lift)
                        nx, ny, nz = shading_normal(t, b1, b2, normals, normal_rows)
                        _look(
                            taken, each, seed, px, py, pz, nx, ny, nz, gx, gy, gz, tracers[p], blockers[p],
                            far, falloff, widest, sums,
                        )  # fmt: skip
                        taken += each
                _keep(out[y0 + y, x0 + x], sums)


@numba.njit(cache=True, nogil=True)
def _of_low(  # type: ignore[no-untyped-def]
    tiles, starts, triangle, uv, across, width, height, side, low_triangle, sample, shift, corners, points,
    low_normals, pair, tracers, blockers, rays, bits, far, falloff, widest, lift, out,
):  # fmt: skip
    sums = np.zeros(5)
    for k in range(len(tiles)):
        x0, y0, columns, rows = tile_box(tiles[k], across, width, height)
        for y in range(y0, y0 + rows):
            for x in range(x0, x0 + columns):
                t = low_triangle[y, x]
                if t < 0:
                    continue
                b0, b1, b2 = texel_barycentrics(corners, t, x, y, sample[y, x], side, shift)
                a, b, c = points[t, 0], points[t, 1], points[t, 2]
                gx, gy, gz = face_normal(a, b, c)
                px = b0 * a[0] + b1 * b[0] + b2 * c[0] + lift * gx
                py = b0 * a[1] + b1 * b[1] + b2 * c[1] + lift * gy
                pz = b0 * a[2] + b1 * b[2] + b2 * c[2] + lift * gz
                n = low_normals[t]
                nx = b0 * n[0, 0] + b1 * n[1, 0] + b2 * n[2, 0]
                ny = b0 * n[0, 1] + b1 * n[1, 1] + b2 * n[2, 1]
                nz = b0 * n[0, 2] + b1 * n[1, 2] + b2 * n[2, 2]
                length = np.sqrt(nx * nx + ny * ny + nz * nz)
                if length == 0:
                    continue
                sums[:] = 0
                first, seed = points_of_texel(x, y, 1, bits)
                _look(
                    first, rays, seed, px, py, pz, nx / length, ny / length, nz / length, gx, gy, gz,
                    tracers[pair[t]], blockers[pair[t]], far, falloff, widest, sums,
                )  # fmt: skip
                _keep(out[y, x], sums)


@numba.njit(cache=True, nogil=True, error_model="numpy")
def _look(  # type: ignore[no-untyped-def]
    first, count, seed, px, py, pz, nx, ny, nz, gx, gy, gz, tracer, blocker, far, falloff, widest, sums
):  # fmt: skip
    """Trace `count` rays from p about n; adds to sums (5,): rays, occlusion, free direction."""
    function, scene, seen, shade, x, y, z = blocker[0], blocker[1], 0, 0.0, 0.0, 0.0, 0.0
    if falloff:
        function, scene = tracer[0], tracer[1]
    for r in range(first, first + count):
        u, v = square_point(r, seed)
        dx, dy, dz = cosine_direction(u, v, widest, nx, ny, nz)
        if dx * gx + dy * gy + dz * gz <= 0:
            continue
        seen += 1
        free = 1.0
        if falloff == 0:
            if blocked(function, scene, px, py, pz, dx, dy, dz, far):
                shade += 1
                continue
        else:
            length, _, _, hit = hit_along(function, scene, px, py, pz, dx, dy, dz, far)
            if hit >= 0:
                free = length / far
                if falloff == 2:
                    free *= 2 - free  # 1 - (1 - t)^2
                shade += 1 - free
        x += free * dx
        y += free * dy
        z += free * dz
    sums[0] += seen
    sums[1] += shade
    sums[2] += x
    sums[3] += y
    sums[4] += z


@numba.njit(cache=True, nogil=True)
def _keep(texel, sums):  # type: ignore[no-untyped-def]
    if sums[0]:
        for c in range(len(texel)):
            texel[c] = sums[1 + c] / sums[0]
