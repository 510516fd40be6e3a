"""The slice at a point of the low: low, cage and sculpt cut by a plane that holds the ray there, and the rays in it.

The drawing's y runs outward, its x along the surface, in a plane that holds the ray and is turned about it by an
angle. Lines come as segments x0 y0 x1 y1 in scene units about the point, with the body to the right of each.
"""

from dataclasses import dataclass
from typing import Literal

import numpy as np

from ..base.array_types import F32, F64, I32, I64
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..cage.cage import Cage, rays_of
from ..cast.shading_normal import shading_normal
from ..cast.trace import strike
from ..mesh.mesh import corner_positions
from ..piece.piece import Assembly
from ..piece.sculpt import Sculpt
from ..rays.ray import Rays, ray_at

RAYS = 41
WIDEST = 6.0  # of the window's height: what a drawer shows
MOST_SEGMENTS = 20_000
Along = Literal["u", "v", "view"]


@dataclass(frozen=True, slots=True)
class SectionRay:
    """A ray in the slice: its start, where it crosses the low, and the hit, or its end if it misses.

    drawn (3, 2) float64 are these in the drawing, places (3, 3) float64 in the scene. normal (2,) is the sculpt's at
    the hit, as the drawing shows it; uv that of the low, in the sheet's channel.
    """

    drawn: F64
    places: F64
    struck: bool
    normal: tuple[float, float] | None
    triangle: int
    uv: tuple[float, float] | None


@dataclass(frozen=True, slots=True)
class Section:
    """Lines (N, 4) float32 and rays of a slice; half_width and half_height of the window, scene units.

    The figures are those of the ray in the middle: reach used, height of the hit, angle between ray and surface.
    """

    low: F32
    cage: F32
    sculpt: F32
    rays: list[SectionRay]
    half_width: float
    half_height: float
    part: str
    outward: float
    inward: float
    height: float | None
    angle: float | None
    struck: str


def section(
    assembly: Assembly,
    sculpt: Sculpt,
    cage: Cage,
    triangle: int,
    place: Vector,
    turned: float = 0.0,
    zoom: float = 1.0,
    along: Along = "u",
    view: Vector = (0, 0, 1),
) -> Section:
    """The slice at the point of low triangle `triangle` nearest to `place`.

    It holds the ray there and runs along u or v of the sheet, or across the direction `view` in which one looks; then
    it is `turned` by some degrees about the ray.
    """
    low, points = assembly.low, corner_positions(assembly.low)
    if not 0 <= triangle < len(low.triangles):
        raise ValueError(f"section: triangle {triangle} is none of the low's {len(low.triangles)}")
    own_points, uvs = points[triangle].astype(np.float64), _uvs(assembly)
    b = _barycentrics(own_points, np.array(place, np.float64))
    rays = rays_of(assembly, cage)
    start, way, out, far = ray_at(rays, triangle, b)
    origin, up = start + way * out, -way
    across = np.cross(up, -np.array(view, np.float64)) if along == "view" else None
    if across is None and uvs is not None:
        across = _along(own_points, uvs[triangle])[0 if along == "u" else 1]
    frame = _frame(own_points, up, across, turned)
    half_height = max(out, far - out) * 1.7 / zoom
    half_width = half_height * WIDEST
    pair = int(assembly.low_pair[triangle])
    rows = np.flatnonzero(assembly.low_pair == pair)
    box = np.array([half_width, half_height * 1.5])
    low_lines, owners = _slice(points[rows], frame, origin, box)
    cage_lines, _ = _slice(points[rows] + cage.corners[rows], frame, origin, box)
    first, last = sculpt.first[pair], sculpt.first[pair + 1]
    high_lines = _slice_indexed(sculpt.mesh.positions, sculpt.mesh.triangles[first:last], frame, origin, box)
    lines = _rays(rays, sculpt, rows[owners], low_lines, frame, origin, half_width, uvs)
    length, normal, hit = _strike(rays, sculpt, triangle, start, way, out, far)
    struck = normal is not None
    return Section(
        low_lines, cage_lines, high_lines, lines, half_width, half_height, low.object_of(triangle), out, far - out,
        out - length if struck else None,
        float(np.degrees(np.arccos(np.clip(-normal @ way, -1, 1)))) if normal is not None else None,
        sculpt.mesh.object_of(hit) if struck else "",
    )  # fmt: skip


def _uvs(assembly: Assembly) -> F64 | None:
    """The low's UVs at corners (T, 3, 2) in the sheet's channel, if it has them."""
    low, channel = assembly.low, assembly.recipe.sheet.channel
    if channel >= len(low.uvs) or not low.uvs[channel].complete:
        return None
    return low.uvs[channel].at_corners().astype(np.float64)


def _along(p: F64, uv: F64) -> tuple[F64 | None, F64 | None]:
    """The directions on a triangle in which u and v grow; None where its UVs have no area."""
    (u1, v1), (u2, v2) = uv[1] - uv[0], uv[2] - uv[0]
    area = u1 * v2 - u2 * v1
    if abs(area) < 1e-20:
        return None, None
    one, two = p[1] - p[0], p[2] - p[0]
    return (v2 * one - v1 * two) / area, (u1 * two - u2 * one) / area


def _barycentrics(p: F64, place: F64) -> Vector:
    """Those of the point of a triangle's plane nearest to `place`, moved into the triangle."""
    u, v, w = p[1] - p[0], p[2] - p[0], place - p[0]
    n = np.cross(u, v)
    square = float(n @ n)
    if square == 0:
        return 1.0, 0.0, 0.0
    b = np.clip([0, np.cross(w, v) @ n / square, np.cross(u, w) @ n / square], 0, 1)
    b[1:] /= max(1.0, float(b[1] + b[2]))
    return float(1 - b[1] - b[2]), float(b[1]), float(b[2])


def _frame(p: F64, up: F64, across: F64 | None, turned: float) -> F64:
    """Axes x and y of the drawing and the plane's normal, (3, 3).

    The plane holds the ray and `across` (the triangle's longest edge where that is None or along the ray), turned about
    the ray. In it y follows the triangle's own normal, so that the low lies level and a leaning ray is seen to lean.
    """
    sides = np.roll(p, -1, axis=0) - p
    longest = sides[np.argmax(np.linalg.norm(sides, axis=1))]
    if longest[np.argmax(np.abs(longest))] < 0:
        longest = -longest
    given = longest if across is None else across
    x = given - (given @ up) * up
    if np.linalg.norm(x) < 1e-3 * np.linalg.norm(given):
        x = longest - (longest @ up) * up
    x /= max(float(np.linalg.norm(x)), 1e-300)
    angle = np.radians(turned)
    normal = np.cross(np.cos(angle) * x + np.sin(angle) * np.cross(up, x), up)
    face = np.cross(p[1] - p[0], p[2] - p[0])
    y = face - (face @ normal) * normal
    length = float(np.linalg.norm(y))
    y = y / length if length > 1e-9 * float(np.linalg.norm(face)) else up
    return np.stack([np.cross(y, normal), y, normal])


def _slice(corners: F32, frame: F64, origin: F64, box: F64) -> tuple[F32, I32]:
    """Segments of some triangles (T, 3, 3) in the plane, and the row of each."""
    triangles = np.arange(3 * len(corners), dtype=np.int32).reshape(-1, 3)
    segments, rows = _cut(corners.reshape(-1, 3).astype(np.float32), triangles, frame, origin, box, MOST_SEGMENTS)
    return segments, rows


def _slice_indexed(positions: F32, triangles: I32, frame: F64, origin: F64, box: F64) -> F32:
    return np.asarray(_cut(positions, triangles, frame, origin, box, MOST_SEGMENTS)[0], np.float32)


@kernel
def _cut(positions: F32, triangles: I32, frame: F64, origin: F64, box: F64, most: int) -> tuple[F32, I32]:
    """Where triangles meet the plane, inside a box about the origin: (segments (N, 4), triangle of each)."""
    out, rows, count = np.empty((most, 4), np.float32), np.empty(most, np.int32), 0
    at, end = np.empty((3, 3)), np.empty((2, 2))
    for t in range(len(triangles)):
        above = below = 0
        for k in range(3):
            v = triangles[t, k]
            x, y, z = positions[v, 0] - origin[0], positions[v, 1] - origin[1], positions[v, 2] - origin[2]
            at[k, 2] = x * frame[2, 0] + y * frame[2, 1] + z * frame[2, 2]
            if at[k, 2] > 0:
                above += 1
            else:
                below += 1
            at[k, 0] = x * frame[0, 0] + y * frame[0, 1] + z * frame[0, 2]
            at[k, 1] = x * frame[1, 0] + y * frame[1, 1] + z * frame[1, 2]
        if above == 0 or below == 0 or count == most:
            continue
        for k in range(3):
            m = (k + 1) % 3
            if (at[k, 2] > 0) != (at[m, 2] > 0):
                s = at[k, 2] / (at[k, 2] - at[m, 2])
                # the edge that comes up through the plane begins the segment: the body lies to its right
                place = 0 if at[k, 2] <= 0 else 1
                end[place, 0] = at[k, 0] + s * (at[m, 0] - at[k, 0])
                end[place, 1] = at[k, 1] + s * (at[m, 1] - at[k, 1])
        if min(end[0, 0], end[1, 0]) > box[0] or max(end[0, 0], end[1, 0]) < -box[0]:
            continue
        if min(end[0, 1], end[1, 1]) > box[1] or max(end[0, 1], end[1, 1]) < -box[1]:
            continue
        out[count, 0], out[count, 1], out[count, 2], out[count, 3] = end[0, 0], end[0, 1], end[1, 0], end[1, 1]
        rows[count] = t
        count += 1
    return out[:count].copy(), rows[:count].copy()


def _strike(
    rays: Rays, sculpt: Sculpt, triangle: int, start: F64, way: F64, out: float, far: float
) -> tuple[float, F64 | None, int]:
    """Length of a triangle's ray, the sculpt's unit normal at its hit (None for a miss), and the triangle struck."""
    length, u, v, hit = strike(rays, sculpt, triangle, start, way, out, far)
    if hit < 0:
        return far, None, -1
    return length, np.array(shading_normal(hit, u, v, sculpt.record)), int(hit)


def _rays(
    rays: Rays, sculpt: Sculpt, owners: I64, lines: F32, frame: F64, origin: F64, half_width: float, uvs: F64 | None
) -> list[SectionRay]:
    """Rays from the low's line, evenly spread over the window."""
    section_rays = []
    for x in np.linspace(-half_width, half_width, RAYS)[1:-1]:
        across = (lines[:, 0] - x) * (lines[:, 2] - x) <= 0
        upward = lines[:, 2] > lines[:, 0] if (lines[:, 2] > lines[:, 0]).mean() >= 0.5 else lines[:, 2] < lines[:, 0]
        for row in np.flatnonzero(across & upward)[:1]:
            x0, y0, x1, y1 = lines[row].astype(np.float64)
            share = (x - x0) / (x1 - x0) if x1 != x0 else 0.5
            place = origin + frame[0] * x + frame[1] * (y0 + share * (y1 - y0))
            t = int(owners[row])
            b = _barycentrics(rays.points[t].astype(np.float64), place)
            start, way, out, far = ray_at(rays, t, b)
            length, normal, _ = _strike(rays, sculpt, t, start, way, out, far)
            places = np.stack([start, start + way * out, start + way * length])
            drawn = (places - origin) @ frame[:2].T
            leans = None if normal is None else (float(normal @ frame[0]), float(normal @ frame[1]))
            uv = None if uvs is None else (float(b @ uvs[t, :, 0]), float(b @ uvs[t, :, 1]))
            section_rays.append(SectionRay(drawn, places, normal is not None, leans, t, uv))
    return section_rays
