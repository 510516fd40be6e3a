"""The rims of patches, as lines on the low: where each ends, and where it begins to fade out."""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, F64
from ..rays.along_surface import Ground, Place, SurfacePatch
from .contours import cells_by_size, grid_over, marched

CELLS = 24  # along a radius
FARTHEST = 4.0  # radii: what lies farther, or is not reached at all, counts as so far off
REACHED = 4.0  # of the straight way: how much longer the way along the surface to a dragged rim may be

Laid = tuple[Place, float, float]  # centre, radius, and the share of that over which it fades


@dataclass(frozen=True, slots=True)
class PatchRims:
    """A patch, or some as one, as it is drawn: its middle on the low, radius, and lines (S, 2, 3) float32, scene units.

    `rim` is where it ends, `soft` where it begins to fade, empty where that is its middle or the rim itself.
    """

    middle: Place
    radius: float
    rim: F32
    soft: F32


def rims_of(ground: Ground, patches: list[Laid], to: Place | None = None, together: bool = False) -> list[PatchRims]:
    """Those of patches, each a centre, radius and soft share; of the first as it reaches to a place, if one is given.

    All of them `together` are drawn as one, by the rims around what they hold between them.
    """
    if not len(ground.ids) or not patches:
        return []
    if to:
        centre, _, soft = patches[0]
        patches = [(centre, radius_to(ground, centre, to), soft), *patches[1:]]
    return [_rims(ground, some) for some in ([patches] if together else [[patch] for patch in patches])]


def _rims(ground: Ground, patches: list[Laid]) -> PatchRims:
    """The rims around all that some patches hold; where the low lies farther than their radii, they have no lines."""
    around = [ground.around(centre, radius) for centre, radius, _ in patches]
    radii = [radius for _, radius, _ in patches]
    inner = [radius * (1 - soft) for _, radius, soft in patches]
    shown = any(0 < one < radius for one, radius in zip(inner, radii, strict=True))
    soft_line = _line(ground, around, inner) if shown else _line(ground, [], [])
    return PatchRims(around[0].middle, radii[0], _line(ground, around, radii), soft_line)


def radius_to(ground: Ground, centre: Place, place: Place) -> float:
    """How far a place of the low lies from another along the surface; straight, where no way leads there."""
    straight = float(np.linalg.norm(np.subtract(place, centre)))
    row, foot = ground.foot(place)
    away = ground.around(centre, REACHED * straight).distance(np.array([row]), np.array([foot]))
    return float(away[0]) if np.isfinite(away[0]) else straight


def _line(ground: Ground, patches: list[SurfacePatch], radii: list[float]) -> F32:
    """Around all that lies within a radius of the middle of any of some patches, (S, 2, 3)."""
    lines: list[F64] = [np.zeros((0, 2, 3))]
    rows = np.unique(np.concatenate([patch.rows for patch in patches])) if patches else np.zeros(0, np.int64)
    corners = ground.points[rows]
    for along, own in cells_by_size(corners, np.arange(len(rows)), max(radii, default=0.0) / CELLS):
        grid, cells = grid_over(along)
        points: F64 = np.einsum("gk,tkc->tgc", grid, corners[own])
        triangles, places = np.repeat(rows[own], len(grid)), points.reshape(-1, 3)
        inside = np.stack([r - patch.distance(triangles, places) for patch, r in zip(patches, radii, strict=True)])
        held = np.maximum(inside.max(axis=0), -FARTHEST * max(radii)).reshape(len(own), -1)
        lines.append(marched(points[:, cells].reshape(-1, 3, 3), held[:, cells].reshape(-1, 3)))
    return np.concatenate(lines).astype(np.float32)
