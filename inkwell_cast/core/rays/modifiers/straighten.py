"""Straightening: flat faces of the low, and what a picture marks, whose rays leave at right angles.

Away from the bends of its face a ray turns to the face's normal; on a bend it keeps the direction of the cage.
"""

import base64
from dataclasses import dataclass, replace

import numpy as np

from ...base.array_types import F32, F64, I32, I64, AnyArray, Bool
from ...base.borrowed_arrays import block
from ...base.errors import InputProblem
from ...base.kernel_types import Vector
from ...base.kernels import kernel
from ...base.on_demand import library
from ...base.records import Record, record_kind, record_of, rows_of, view
from ...mesh.adjacency import bends, edges_of, groups
from ...mesh.mesh import Mesh, corner_positions
from ...mesh.normals import face_normals
from ...settings.recipe import Recipe
from ..along_surface import listed_on
from ..closest_point import SEGMENT, distance_to_segment

cv2 = library("cv2")
FLAT = 4.0  # degrees: faces that lean apart by less lie in one plane
LARGEST = 1024  # texels of a picture's side
STRAIGHT = record_kind(
    {
        "normals": (np.float64, 3),
        "bends": SEGMENT,
        "starts": np.int64,
        "listed": np.int32,
        "uvs": (np.float64, 3, 2),
        "picture": np.float64,
    },
    width=np.int64,
    within=np.float64,
)


@dataclass(frozen=True, slots=True)
class Straight:
    """Flat faces of the low whose rays leave at right angles, away from bends.

    flat (P,) bool marks them; segments (S, 6) float64 are the edges at which they bend, `within` of which rays turn;
    starts (P + 1,) int64 and listed (L,) int32 say which of them are near a triangle. Scene units. picture (H, W)
    float64, 0 rows for none, from 0 to 1 is laid by uvs (P, 3, 2) and straightens as much.
    """

    flat: Bool
    segments: F64
    starts: I64
    listed: I32
    within: float
    picture: F64
    uvs: F64

    def record(self, points: F32) -> Record:
        """Of the kind `STRAIGHT`, for the triangles (P, 3, 3) of the low."""
        return record_of(
            STRAIGHT,
            normals=_unit_normals(points),
            bends=rows_of(self.segments, SEGMENT),
            starts=self.starts,
            listed=self.listed,
            uvs=np.ascontiguousarray(self.uvs),
            picture=np.ascontiguousarray(self.picture),
            width=self.picture.shape[1],
            within=self.within,
        )


def no_straight(triangles: int) -> Straight:
    starts = np.zeros(triangles + 1, np.int64)
    return Straight(
        np.zeros(triangles, np.bool_),
        np.zeros((0, 6)),
        starts,
        np.zeros(0, np.int32),
        1.0,
        np.zeros((0, 0)),
        np.zeros((0, 3, 2)),
    )


def straight_of(low: Mesh, recipe: Recipe) -> Straight:
    """What the recipe has straightened beside its strokes: flat faces, and what its picture says."""
    straight = no_straight(len(low.triangles))
    if not len(low.triangles):
        return straight
    if recipe.reach.straighten:
        straight = _flat_faces(low, recipe.reach.bend * recipe.reach.margin_scale(low.diagonal))
    channel = recipe.sheet.channel
    if recipe.straight_picture and channel < len(low.uvs) and low.uvs[channel].complete:
        uvs = low.uvs[channel].at_corners().astype(np.float64)
        straight = replace(straight, picture=picture_in(recipe.straight_picture), uvs=uvs)
    return straight


def _flat_faces(low: Mesh, within: float) -> Straight:
    """The flat faces of a low, and the bends `within` which their rays turn."""
    edges, points = edges_of(low), corner_positions(low).astype(np.float64)
    bend = bends(low, edges)
    bent = (edges.across >= 0) & (bend > FLAT)
    group = groups(edges, ~bent)
    flat = _in_one_plane(low, group)
    rows, side = np.nonzero(bent & flat[:, None])
    segments = np.concatenate([points[rows, side], points[rows, (side + 1) % 3]], axis=1)
    order = np.argsort(group[rows], kind="stable")
    segments, of_group = segments[order], group[rows][order]
    first = np.searchsorted(of_group, np.arange(int(group.max(initial=-1)) + 2)).astype(np.int64)
    count = np.zeros(len(points) + 1, np.int64)
    _near_bends(points, group, flat, rows_of(segments, SEGMENT), first, within, count[1:], count, np.zeros(0, np.int32))
    starts = np.cumsum(count)
    listed = np.empty(int(starts[-1]), np.int32)
    _near_bends(points, group, flat, rows_of(segments, SEGMENT), first, within, count[1:], starts, listed)
    nothing = no_straight(len(points))
    return replace(nothing, flat=flat, segments=segments, starts=starts, listed=listed, within=within)


def straight_on(straight: Straight, rows: I32 | I64) -> Straight:
    """What straightens rays, of some rows of the triangles that it was made for."""
    starts, place = listed_on(straight.starts, rows)
    uvs = straight.uvs[rows] if len(straight.picture) else straight.uvs
    return replace(straight, flat=straight.flat[rows], starts=starts, listed=straight.listed[place], uvs=uvs)


def picture_in(stored: str) -> F64:
    """The picture of a recipe, (H, W) from 0 to 1, top row first."""
    image = cv2.imdecode(np.frombuffer(base64.b64decode(stored), np.uint8), cv2.IMREAD_GRAYSCALE)
    if image is None:
        raise InputProblem("The straightening picture", "It is no picture.", "Give a grey PNG.")
    return np.asarray(image / 255.0, np.float64)


def stored_picture(data: bytes, name: str) -> str:
    """A picture file as a recipe holds it: grey, at most `LARGEST` texels on a side. Raises InputProblem."""
    image = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_GRAYSCALE) if data else None
    if image is None:
        raise InputProblem(name, "It is no picture that can be read.", "Give a grey PNG, white where rays are to turn.")
    scale = LARGEST / max(image.shape)
    if scale < 1:
        size = max(1, round(image.shape[1] * scale)), max(1, round(image.shape[0] * scale))
        image = cv2.resize(image, size, interpolation=cv2.INTER_AREA)
    return base64.b64encode(cv2.imencode(".png", image)[1].tobytes()).decode()


def _in_one_plane(low: Mesh, group: I32) -> Bool:
    """Triangles of groups all of whose faces look the same way, (T,) bool; small steps may add up to a curve."""
    normal = face_normals(low.positions, low.triangles).astype(np.float64)
    corners = corner_positions(low).astype(np.float64)
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    many = int(group.max(initial=-1)) + 1
    mean: F64 = np.stack([np.bincount(group, area * normal[:, k], many) for k in range(3)], axis=1)
    mean = np.asarray(mean / np.maximum(np.linalg.norm(mean, axis=1, keepdims=True), 1e-300))
    off = np.einsum("tk,tk->t", normal, mean[group]) < np.cos(np.radians(FLAT))
    return np.asarray(np.bincount(group, off & (area > 0), many)[group] == 0)


@kernel
def _near_bends(
    points: F64,
    group: I32,
    flat: Bool,
    segments: AnyArray,
    first: I64,
    within: float,
    count: I64,
    starts: I64,
    listed: I32,
) -> None:
    """Count the bends of its plane within reach of each triangle, or, given room in `listed`, write them in order."""
    for t in range(len(points)):
        if not flat[t]:
            continue
        p, place = points[t], starts[t]
        x, y, z = (
            (p[0, 0] + p[1, 0] + p[2, 0]) / 3,
            (p[0, 1] + p[1, 1] + p[2, 1]) / 3,
            (p[0, 2] + p[1, 2] + p[2, 2]) / 3,
        )
        size = 0.0
        for k in range(3):
            size = max(size, (p[k, 0] - x) ** 2 + (p[k, 1] - y) ** 2 + (p[k, 2] - z) ** 2)
        reach = (np.sqrt(size) + within) * 1.0001
        for s in range(first[group[t]], first[group[t] + 1]):
            if distance_to_segment(x, y, z, segments[s]) > reach:
                continue
            if len(listed):
                listed[place] = s
                place += 1
            else:
                count[t] += 1


def _unit_normals(points: F32) -> F64:
    """Unit normals of triangles (P, 3, 3), zero where they have none."""
    corners = points.astype(np.float64)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return np.asarray(normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300))


@kernel
def away_from_bends(t: int, x: float, y: float, z: float, modifiers: Record) -> float:
    """How far a ray of a flat face t turns to it: not at all on a bend, wholly where none is within reach."""
    straight, free = view(modifiers, "straight"), 1.0
    edges, listed = (
        view(straight, "bends"),
        view(straight, "listed"),
    )
    starts = view(straight, "starts")
    for i in range(starts[t], starts[t + 1]):
        free = min(free, distance_to_segment(x, y, z, edges[listed[i]]) / straight.within)
    return free * free * (3 - 2 * free)


@kernel
def in_picture(t: int, b1: float, b2: float, modifiers: Record) -> float:
    """The picture at a place of triangle t, between its texels; it repeats beyond the tile."""
    straight, b0 = view(modifiers, "straight"), 1 - b1 - b2
    height, width = straight.picture_count, straight.width
    picture, uv = (
        block(straight.picture, (height, width), np.float64),
        view(straight, "uvs")[t],
    )
    x = (b0 * uv[0, 0] + b1 * uv[1, 0] + b2 * uv[2, 0]) * width - 0.5
    y = (1 - b0 * uv[0, 1] - b1 * uv[1, 1] - b2 * uv[2, 1]) * height - 0.5
    i, j = int(np.floor(x)), int(np.floor(y))
    fx, fy = x - i, y - j
    top, below, left, right = j % height, (j + 1) % height, i % width, (i + 1) % width
    return (1 - fy) * ((1 - fx) * picture[top, left] + fx * picture[top, right]) + fy * (
        (1 - fx) * picture[below, left] + fx * picture[below, right]
    )


@kernel
def turned_to_face(t: int, ex: float, ey: float, ez: float, share: float, modifiers: Record) -> Vector:
    """A unit direction turned a share of the way to the normal of triangle t, evenly; opposite ones stay."""
    straight = view(modifiers, "straight")
    n = view(straight, "normals")[t]
    cosine = ex * n[0] + ey * n[1] + ez * n[2]
    if cosine > 1 - 1e-12 or cosine < -0.999:
        return ex, ey, ez
    angle = np.arccos(cosine)
    a, b = np.sin((1 - share) * angle), np.sin(share * angle)
    x, y, z = a * ex + b * n[0], a * ey + b * n[1], a * ez + b * n[2]
    length = np.sqrt(x * x + y * y + z * z)
    return x / length, y / length, z / length
