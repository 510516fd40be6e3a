"""What detectors look at: an even choice of a sheet's texels, with their rays and what those found."""

from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np

from ..base.array_types import F32, F64, I32, I64, AnyArray
from ..base.kernels import kernel
from ..base.records import Record, view
from ..cast.context import Context
from ..cast.texel import barycentrics_at, triangle_at
from ..mesh.normals import face_normal
from ..rays.ray import make_ray
from .visible import RowsSeen, Visible, rows_seen

MOST_TEXELS = 1_000_000


@dataclass(frozen=True, slots=True)
class TexelRows:
    """Texels of a sheet that lie on the low, a row each; lengths in scene units, angles in degrees.

    x, y (N,) int32; triangle (N,) int32 of the sheet, b (N, 3) its barycentrics there; place (N, 3) on the low; normal
    (N, 3) of the flat face; lean (N,) between the ray and that; strain (N,) between the low's shading normal and that;
    size (N,) the side of the square of surface that a row stands for; outward and inward (N,) the reach in force;
    struck (N,) samples that struck; height (N,) of the sculpt. `step` texels lie between two rows. looks says what a
    viewer sees of them, visible of all texels; wanted (N,) is the height of what the best on this low takes, NaN for
    nothing. everything holds all rows of the sheet, where these are some of them. straight and averaged (N,) are
    by how much a row would look worse than the best with rays of those ways, NaN where that was not tried (`trials`).
    """

    context: Context
    step: int
    x: I32
    y: I32
    triangle: I32
    b: F64
    place: F64
    normal: F64
    lean: F32
    strain: F32
    size: F32
    outward: F32
    inward: F32
    struck: I32
    height: F32
    wanted: F32
    looks: RowsSeen
    visible: Visible
    straight: F64
    averaged: F64
    everything: "TexelRows | None" = None

    def at(self, rows: I64) -> "TexelRows":
        """Some of the rows alone."""
        whole = {"context", "step", "visible", "everything"}
        names = [f.name for f in fields(self) if f.name not in whole]
        chosen: dict[str, Any] = {name: _rows(getattr(self, name), rows) for name in names}
        return replace(self, **chosen, everything=self.everything or self)


def _rows(values: AnyArray, rows: I64) -> AnyArray:
    if isinstance(values, RowsSeen):
        return replace(values, **{f.name: getattr(values, f.name)[rows] for f in fields(values)})
    return values[rows]


def seen_of(context: Context, visible: Visible) -> TexelRows:
    """At most about `MOST_TEXELS` texels."""
    cast, low = context.cast, context.low
    step = max(1, int(np.ceil(np.sqrt(cast.texels / MOST_TEXELS))))
    y, x = (axis.astype(np.int32) * step for axis in np.nonzero(cast.covered[::step, ::step]))
    count = len(x)
    triangle = cast.low_triangle[y, x]
    b, place, normal = np.empty((count, 3)), np.empty((count, 3)), np.empty((count, 3))
    angles, reach = np.empty((count, 2), np.float32), np.empty((count, 2), np.float32)
    _look(x, y, low.record, cast.record, context.rays.record, b, place, normal, angles, reach)
    size = low.texel_sides(context.rays.points.astype(np.float64))[triangle] * step
    return TexelRows(
        context,
        step,
        x,
        y,
        triangle,
        b,
        place,
        normal,
        angles[:, 0],
        angles[:, 1],
        size.astype(np.float32),
        reach[:, 0],
        reach[:, 1],
        cast.struck[y, x].astype(np.int32),
        cast.height[y, x],
        visible.wanted[y, x],
        rows_seen(visible, x, y, step, cast.struck[y, x] == 0),
        visible,
        np.full(count, np.nan),
        np.full(count, np.nan),
    )


@kernel
def _look(
    x: I32, y: I32, low: Record, cast: Record, rays: Record, b: F64, place: F64, normal: F64, angles: F32, reach: F32
) -> None:
    """Fill in the fields of `TexelRows` for texels x, y (N,): angles (N, 2) are lean and strain; records."""
    normals = view(low, "normals")
    points = view(rays, "points")
    for i in range(len(x)):
        t = triangle_at(x[i], y[i], cast)
        b0, b1, b2 = barycentrics_at(x[i], y[i], t, low, cast)
        b[i, 0], b[i, 1], b[i, 2] = b0, b1, b2
        gx, gy, gz = face_normal(points[t, 0], points[t, 1], points[t, 2])
        normal[i, 0], normal[i, 1], normal[i, 2] = gx, gy, gz
        _, _, _, dx, dy, dz, out, far = make_ray(t, b0, b1, b2, rays)
        cosine = -(dx * gx + dy * gy + dz * gz)
        angles[i, 0] = np.degrees(np.arccos(min(max(cosine, -1.0), 1.0)))
        length = along = 0.0
        for c in range(3):
            n = b0 * normals[t, 0, c] + b1 * normals[t, 1, c] + b2 * normals[t, 2, c]
            length += n * n
            along += n * normal[i, c]
            place[i, c] = b0 * points[t, 0, c] + b1 * points[t, 1, c] + b2 * points[t, 2, c]
        cosine = along / np.sqrt(length) if length > 0 else 1.0
        angles[i, 1] = np.degrees(np.arccos(min(max(cosine, -1.0), 1.0)))
        reach[i, 0], reach[i, 1] = out, far - out
