"""What a sheet tells of the surroundings of its texels: places and normals of the sculpt, and what hides the sky.

In a slice through the normal the neighbours' points of the sculpt stand up to some elevation a over the tangent plane;
of a cosine-weighted sky sin^2 a is hidden. The mean over slices is the occlusion of a height field (after L. Bavoil and
M. Sainz, "Image-space horizon-based ambient occlusion", 2009). What lies on another island is not seen; where a
sheet repeats, what lies beyond its borders is.
"""

from dataclasses import dataclass, replace

import numpy as np

from ..base.array_types import F32, I32, U8, AnyArray
from ..base.disk_arrays import in_bands
from ..base.kernels import kernel, prange
from ..base.records import shared
from ..mesh.adjacency import edges_of, islands_of
from ..piece.repeated import shifts_of
from ..rays.ray import make_ray
from .context import Context
from .texel import barycentrics_at, triangle_at

SLICES, STEPS = 16, 12


def points_of(context: Context) -> F32:
    """Where the sculpt lies at each texel, (H, W, 3) scene units, by its height along the ray."""
    out = np.zeros(context.cast.normal.shape, np.float32)
    _points(
        shared(context.low.record), shared(context.cast.record), context.cast.height, shared(context.rays.record), out
    )
    return out


def unit_normals(context: Context) -> F32:
    """The sculpt's mean normal at each texel, (H, W, 3), 1 long."""

    def unit(rows: F32) -> F32:
        return np.asarray(rows / np.maximum(np.linalg.norm(rows, axis=2, keepdims=True), 1e-20))

    return in_bands(unit, context.cast.normal, 3)


def islands_on(context: Context) -> I32:
    """The island of each triangle of the sheet."""
    mesh = context.assembly.low
    return islands_of(mesh.uvs[context.recipe.sheet.channel].at_corners(), edges_of(mesh))[context.low.triangles]


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What a sheet (H, W) tells of its texels, with `margin` texels more above and beside where it repeats.

    struck and low_triangle (H, W) are those of the cast, island (T,) is that of each triangle, normal and points
    (H, W, 3) are what `unit_normals` and `points_of` give.
    """

    struck: U8
    low_triangle: I32
    island: I32
    normal: F32
    points: F32
    margin: tuple[int, int] = (0, 0)

    def with_margin(self, values: AnyArray) -> AnyArray:
        """A layer of the sheet (H, W, ...) with what lies beyond its borders."""
        wide = (self.margin[0],) * 2, (self.margin[1],) * 2, *((0, 0),) * (values.ndim - 2)
        return np.pad(values, wide, mode="wrap") if any(self.margin) else values

    def inner(self, values: AnyArray) -> AnyArray:
        """The sheet itself, of a layer that has what lies beyond."""
        up, side = self.margin
        return values[up : values.shape[0] - up, side : values.shape[1] - side]


def surroundings_of(context: Context, reach: float) -> Surroundings:
    """What the sheet tells of its texels; where it repeats, of those up to `reach` texels beyond its borders too."""
    cast, repeat = context.cast, context.recipe.sheet.repeat
    plain = Surroundings(cast.struck, cast.low_triangle, islands_on(context), unit_normals(context), points_of(context))
    if repeat == "none":
        return plain
    texels = int(np.ceil(reach))
    around = replace(plain, margin=(texels * (repeat in ("v", "both")), texels * (repeat in ("u", "both"))))
    height, width = cast.struck.shape
    low_triangle = around.with_margin(cast.low_triangle)
    points, shifts = around.with_margin(plain.points).copy(), shifts_of(context.assembly)[context.rays.pair]
    y, x = np.nonzero(low_triangle >= 0)
    across, up = (x - around.margin[1]) // width, -((y - around.margin[0]) // height)  # v grows upward
    tiles = np.stack([across, up], axis=1).astype(np.float64)
    points[y, x] += np.einsum("nk,nkc->nc", tiles, shifts[low_triangle[y, x]]).astype(np.float32)
    return replace(
        around,
        struck=around.with_margin(cast.struck),
        low_triangle=low_triangle,
        points=points,
        normal=around.with_margin(plain.normal),
    )


def open_sky(context: Context, radius: float) -> F32:
    """The share of the sky that is free at each texel by what lies around it on the sheet, (H, W); radius in texels."""
    around = surroundings_of(context, radius)
    return np.ascontiguousarray(around.inner(open_skies(around, (radius,)))[..., 0])


def open_skies(around: Surroundings, radii: tuple[float, ...]) -> F32:
    """The share of the sky that is free at each texel for several radii in texels, (H, W, radii), with the margin."""
    free = np.ones((*around.struck.shape, len(radii)), np.float32)
    for n, radius in enumerate(radii):
        _look(
            _steps(radius),
            around.struck,
            around.low_triangle,
            around.island,
            around.normal,
            around.points,
            free[..., n],
        )
    return free


def _steps(radius: float) -> I32:
    """How many texels to the side and down each step of each slice lies from its own, (SLICES, STEPS, 2)."""
    angle = 2 * np.pi * (np.arange(SLICES) + 0.5) / SLICES
    step = np.arange(1, STEPS + 1)
    reach = radius * (step / STEPS) ** 1.5  # closer ones matter more
    reach[:2] = np.maximum(reach[:2], step[:2])
    ways = np.stack([np.cos(angle), np.sin(angle)], axis=1)
    return np.floor(0.5 + reach[None, :, None] * ways[:, None]).astype(np.int32)


@kernel(parallel=True)
def _points(lows: AnyArray, casts: AnyArray, height: F32, rays: AnyArray, out: F32) -> None:
    """Where each texel's hit lies, (H, W, 3): its `height (H, W)` along the ray from the low; records, shared."""
    for y in prange(out.shape[0]):
        for x in range(out.shape[1]):
            t = triangle_at(x, y, casts[0])
            if t < 0:
                continue
            b0, b1, b2 = barycentrics_at(x, y, t, lows[0], casts[0])
            ox, oy, oz, dx, dy, dz, reach, _ = make_ray(t, b0, b1, b2, rays[0])
            along = reach - height[y, x]
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = ox + along * dx, oy + along * dy, oz + along * dz


@kernel(parallel=True)
def _look(steps: I32, struck: U8, low_triangle: I32, island: I32, normal: F32, points: F32, free: F32) -> None:
    height, width = free.shape
    for y in prange(height):
        for x in range(width):
            if struck[y, x] == 0:
                continue
            island_here, hidden = island[low_triangle[y, x]], 0.0
            for k in range(SLICES):
                highest = 0.0
                for step in range(STEPS):
                    u, v = x + steps[k, step, 0], y + steps[k, step, 1]
                    if u < 0 or v < 0 or u >= width or v >= height or (u == x and v == y) or struck[v, u] == 0:
                        continue
                    if island[low_triangle[v, u]] != island_here:
                        break
                    up, away = 0.0, 0.0
                    for c in range(3):
                        d = points[v, u, c] - points[y, x, c]
                        up += d * normal[y, x, c]
                        away += d * d
                    if up > 0 and away > 0:
                        highest = max(highest, up * up / away)
                hidden += highest
            free[y, x] = 1 - hidden / SLICES
