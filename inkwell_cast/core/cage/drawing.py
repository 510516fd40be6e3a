"""What is drawn of a cage: the edges where it bends, the dents of pockets and nudges, a few of its rays."""

import numpy as np

from ..base.array_types import F32, F64, I64
from ..mesh.adjacency import edges_of
from ..mesh.mesh import corner_positions
from ..mesh.surface_samples import few_over
from ..piece.piece import Assembly
from ..rays.modifiers.modifiers import HAS_POCKETS, HAS_STROKES
from ..rays.ray import Rays, ends_at, reach_at
from .cage import Cage, rays_of

BEND = 4.0  # degrees: flatter edges are not drawn
FEW = 600  # rays
FINEST = 32
MOST_POINTS = 200_000


def cage_lines(assembly: Assembly, cage: Cage) -> F32:
    """Borders of the cage and edges at which it bends, (L, 2, 3) float32."""
    points = corner_positions(assembly.low).astype(np.float64) + cage.corners
    normal = np.cross(points[:, 1] - points[:, 0], points[:, 2] - points[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]
    edges = edges_of(assembly.low)
    across = edges.across
    bent = np.einsum("tc,tkc->tk", normal, normal[across]) < np.cos(np.radians(BEND))
    shown = (across < 0) | (bent & (across > np.arange(len(across))[:, None]))
    t, k = np.nonzero(shown)
    return np.stack([points[t, k], points[t, (k + 1) % 3]], axis=1).astype(np.float32)


def dent_lines(assembly: Assembly, cage: Cage) -> F32:
    """A fine grid over what pockets and nudges change inside the faces of the low, (L, 2, 3) float32."""
    rays = rays_of(assembly, cage)
    rows = np.flatnonzero(rays.flags & (HAS_POCKETS | HAS_STROKES))
    radii = np.concatenate([cage.modifiers.pockets.numbers[:, 3], cage.modifiers.nudges.strokes[:, 1]])
    if not len(rows) or not len(radii):
        return np.zeros((0, 2, 3), np.float32)
    longest = np.linalg.norm(rays.points[rows] - np.roll(rays.points[rows], 1, axis=1), axis=2).max(axis=1)
    room = max(int(np.sqrt(2 * MOST_POINTS / len(rows))) - 2, 1)
    cells = np.clip(np.ceil(longest / (radii.min() / 4)), 1, min(FINEST, room)).astype(np.int64)
    grids = [_grid(rays, rows[cells == n], int(n)) for n in np.unique(cells)]
    return np.concatenate(grids).astype(np.float32)


def _grid(rays: Rays, rows: I64, n: int) -> F64:
    """Lines along both barycentrics of some triangles, n cells each way, where the reach is not the plain one."""
    i, j = (a.reshape(-1) for a in np.meshgrid(np.arange(n + 1), np.arange(n + 1), indexing="ij"))
    keep = i + j <= n
    place = np.full((n + 2, n + 2), -1)
    place[i[keep], j[keep]] = np.arange(keep.sum())
    b = np.stack([1 - (i + j)[keep] / n, i[keep] / n, j[keep] / n], axis=1)
    t = np.repeat(rows, len(b))
    all_b = np.tile(b, (len(rows), 1))
    reach = reach_at(rays, t, all_b).astype(np.float64)
    plain = np.einsum("nk,nkc->nc", all_b, rays.offsets[t].astype(np.float64))
    length = np.linalg.norm(plain, axis=1)
    changed = (np.abs(np.linalg.norm(reach, axis=1) - length) > 1e-4 * length).reshape(len(rows), -1)
    points = (np.einsum("nk,nkc->nc", all_b, rays.points[t].astype(np.float64)) + reach).reshape(len(rows), -1, 3)
    ends = [
        np.stack([place[i[keep], j[keep]], place[i[keep] + di, j[keep] + dj]], axis=1) for di, dj in ((1, 0), (0, 1))
    ]
    links = np.concatenate(ends)
    links = links[(links >= 0).all(axis=1)]
    shown = changed[:, links].any(axis=2)
    return points[:, links][shown]


def sparse_rays(assembly: Assembly, cage: Cage) -> F32:
    """A few rays, evenly over the low, from their start to their end: (R, 2, 3) float32."""
    t, b = few_over(corner_positions(assembly.low).astype(np.float64), FEW)
    return ends_at(rays_of(assembly, cage), t, b)
