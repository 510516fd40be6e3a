"""Straightening: flat faces of the low whose rays leave at right angles, and what that changes.

Averaged directions lean near every bend, and what stands off a flat face is then drawn leaning. Faces that lie in one
plane are taken together; on them rays turn from the averaged direction, at an edge where the low bends, to the plane's
own at some distance from it, evenly, so that the ray field has no step.
"""

import base64
from dataclasses import replace

import cv2
import numba
import numpy as np
from pydantic import BaseModel

from ..base.array_types import F64, I32, I64, Bool
from ..base.errors import InputProblem
from ..mesh.adjacency import bends, edges_of, groups
from ..mesh.mesh import Mesh, corner_positions
from ..mesh.normals import face_normals
from ..mesh.surface_samples import spread_over
from ..piece.piece import Assembly
from ..rays.modifiers.special import Straight, from_segment, no_straight
from ..rays.ray import Rays, make_ray

FLAT = 4.0  # degrees: faces that lean apart by less lie in one plane
PROBES = 40_000
LARGEST = 1024  # texels of a picture's side
TURNED = 1.0  # degrees: what counts as changed


class Straightened(BaseModel):
    """What straightening changed: the share of the low's surface, and by how many degrees rays turned there at most."""

    share: float
    most: float
    parts: list[str]


def straight_of(assembly: Assembly) -> Straight:
    """What the recipe has straightened beside its strokes: flat faces, and what its picture says."""
    low, recipe = assembly.low, assembly.recipe
    found = no_straight(len(low.triangles))
    if not len(low.triangles):
        return found
    if recipe.reach.straighten:
        found = _flat_faces(low, recipe.reach.bend * recipe.reach.margin_scale(low.diagonal))
    channel = recipe.sheet.channel
    if recipe.straight_picture and channel < len(low.uvs) and low.uvs[channel].complete:
        uvs = low.uvs[channel].at_corners().astype(np.float64)
        found = replace(found, picture=picture_in(recipe.straight_picture), uvs=uvs)
    return found


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
    _near_bends(points, group, flat, segments.reshape(-1), first, within, count[1:], count, np.zeros(0, np.int32))
    starts = np.cumsum(count)
    listed = np.empty(int(starts[-1]), np.int32)
    _near_bends(points, group, flat, segments.reshape(-1), first, within, count[1:], starts, listed)
    nothing = no_straight(len(points))
    return replace(nothing, flat=flat, segments=segments, starts=starts, listed=listed, within=within)


def straight_on(straight: Straight, rows: I32 | I64) -> Straight:
    """The same for some of the triangles."""
    counts = np.diff(straight.starts)[rows]
    starts = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    place = np.repeat(straight.starts[:-1][rows] - starts[:-1], counts) + np.arange(starts[-1])
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


def straightened(assembly: Assembly, rays: Rays, without: Rays) -> Straightened:
    """What was changed, from the rays of the whole low and those without straightening, at well-spread places."""
    points = corner_positions(assembly.low).astype(np.float64)
    places, rows, b = spread_over(points, np.arange(len(points)), PROBES)
    angle = _apart(rows, b, *rays.arrays, *without.arrays)
    turned = angle > TURNED
    owners = np.unique(assembly.low.objects[rows[turned]])
    return Straightened(
        share=float(turned.mean()) if len(places) else 0.0, most=float(angle.max(initial=0.0)),
        parts=[assembly.keys[n] for n in owners],
    )  # fmt: skip


@numba.njit(cache=True, nogil=True)
def _near_bends(points, group, flat, segments, first, within, count, starts, listed):  # type: ignore[no-untyped-def]
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
            if from_segment(x, y, z, 6 * s, segments) > reach:
                continue
            if len(listed):
                listed[place] = s
                place += 1
            else:
                count[t] += 1


@numba.njit(cache=True, nogil=True)
def _apart(triangle, b, points, offsets, inward, special, points_2, offsets_2, inward_2, special_2):  # type: ignore[no-untyped-def]
    """Degrees between the directions of two ray fields."""
    out = np.empty(len(triangle))
    for i in range(len(triangle)):
        t = triangle[i]
        one = make_ray(t, b[i, 0], b[i, 1], b[i, 2], points, offsets, inward, special)
        two = make_ray(t, b[i, 0], b[i, 1], b[i, 2], points_2, offsets_2, inward_2, special_2)
        cosine = one[3] * two[3] + one[4] * two[4] + one[5] * two[5]
        out[i] = np.degrees(np.arccos(min(max(cosine, -1.0), 1.0)))
    return out
