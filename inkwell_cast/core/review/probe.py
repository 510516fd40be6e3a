"""What one texel sees: the ray at its centre, traced again exactly as the bake traced it."""

import numpy as np
from pydantic import BaseModel

from ..base.array_types import I32, I64
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..cast.shading_normal import shading_normal
from ..cast.trace import strike
from ..piece.low_on_sheet import Low
from ..piece.sculpt import Sculpt
from ..rays.ray import Rays, ray_at
from ..uv.rasterise import barycentrics, fill_tile


class Probe(BaseModel):
    """One texel. Distances and places in scene units, angle in degrees; hit fields are None for a missed ray."""

    triangle: int
    low_object: str
    uv: tuple[float, float]
    place: Vector
    start: Vector
    outward: float
    inward: float
    hit_object: str | None = None
    hit_triangle: int | None = None
    height: float | None = None
    angle: float | None = None
    struck: Vector | None = None


def probe(low: Low, rays: Rays, sculpt: Sculpt, x: int, y: int) -> Probe | None:
    """The ray of texel (x, y), y counted from the top; None where no triangle of the low lies."""
    g, high = low.grid, sculpt.mesh
    if not (0 <= x < g.width and 0 <= y < g.height):
        raise ValueError(f"probe: texel ({x}, {y}) lies outside the {g.width} x {g.height} sheet")
    sample = _owner(x, y, g.side, g.shift, g.corners)
    if sample[0] < 0:
        return None
    t, px, py = sample
    start, direction, out, far = ray_at(rays, t, barycentrics(g.corners, t, px, py))
    row = int(low.triangles[t])
    length, u, v, hit = strike(rays, sculpt, t, start, direction, out, far)
    result = Probe(
        triangle=row,
        low_object=low.mesh.object_of(row),
        uv=((x + 0.5) / g.width, 1 - (y + 0.5) / g.height),
        place=_point(start + direction * out),
        start=_point(start),
        outward=out,
        inward=far - out,
    )
    if hit >= 0 and high.normals is not None:
        normal = np.array(shading_normal(hit, u, v, sculpt.record))
        cosine = float(np.clip(-normal @ direction, -1, 1))
        result.hit_object, result.hit_triangle = high.object_of(int(hit)), int(hit)
        result.height, result.angle = out - float(length), float(np.degrees(np.arccos(cosine)))
        result.struck = _point(start + direction * length)
    return result


def _point(values: np.ndarray) -> Vector:  # type: ignore[type-arg]
    return float(values[0]), float(values[1]), float(values[2])


def _owner(x: int, y: int, side: int, shift: int, corners: np.ndarray) -> tuple[int, int, int]:  # type: ignore[type-arg]
    """Triangle at a texel's nearest covered sample, and that sample's place on the integer grid; -1 for none."""
    triangles = _near(x * side << shift, y * side << shift, side << shift, corners)
    owner = np.empty((side, side), np.int32)
    fill_tile(owner, x * side, y * side, side, shift, corners, triangles)
    best, chosen = 1 << 30, (-1, 0, 0)
    half = 1 << (shift - 1)
    for j in range(side):
        for i in range(side):
            off = (2 * i + 1 - side) ** 2 + (2 * j + 1 - side) ** 2
            if owner[j, i] >= 0 and off < best:
                place = ((x * side + i) << shift) + half, ((y * side + j) << shift) + half
                best, chosen = off, (int(owner[j, i]), *place)
    return chosen


@kernel
def _near(x0: int, y0: int, unit: int, corners: I64) -> I32:
    """Triangles whose box meets a texel, ascending."""
    hits = np.empty(len(corners), np.int32)
    count = 0
    for t in range(len(corners)):
        c = corners[t]
        if (
            min(c[0, 0], c[1, 0], c[2, 0]) <= x0 + unit
            and max(c[0, 0], c[1, 0], c[2, 0]) >= x0
            and min(c[0, 1], c[1, 1], c[2, 1]) <= y0 + unit
            and max(c[0, 1], c[1, 1], c[2, 1]) >= y0
        ):
            hits[count] = t
            count += 1
    return hits[:count].copy()
