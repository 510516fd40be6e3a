"""Shells: parts of an object whose faces hang together over edges that they run in opposite directions."""

import numpy as np

from ..base.array_types import F32, F64, I32, Bool
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from .adjacency import Edges, edges_of, groups
from .mesh import Mesh

MOST_SAMPLES = 200_000
MOST_SHELLS = 200  # of an object that are looked at one by one, the largest first


def shells_of(edges: Edges) -> I32:
    """The shell of every triangle, (T,) int32, numbered from 0."""
    return groups(edges, np.ones(edges.across.shape, np.bool_))


def shell_near(mesh: Mesh, chosen: Bool, place: Vector) -> Bool:
    """Of some triangles (T,) those of the shell that lies nearest to a place: (T,) bool."""
    rows = np.flatnonzero(chosen)
    if not len(rows):
        return chosen
    centres = mesh.positions[mesh.triangles[rows]].mean(axis=1, dtype=np.float64)
    nearest = rows[int(((centres - np.array(place)) ** 2).sum(axis=1).argmin())]
    shell = shells_of(edges_of(mesh))
    return np.asarray((shell == shell[nearest]) & chosen)


def place_in(corners: F64) -> Vector:
    """The middle of the largest of some triangles (N, 3, 3): a place that is nearest to their own shell."""
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    x, y, z = corners[int(area.argmax())].mean(axis=0).tolist()
    return x, y, z


@kernel
def volume_of(positions: F32, triangles: I32) -> float:
    """Signed volume that triangles (N, 3) of positions (V, 3) enclose: positive where they look outward.

    0 where an open border leaves it undecided: where the volume under them, from any point among them to any other,
    could change its sign. It changes by a third of what that point moves along the sum of the areas, which closed
    shells have none of.
    """
    middle, areas, p, sums, most = np.zeros(3), np.zeros(3), np.empty((3, 3)), 0.0, 0.0
    for t in range(len(triangles)):
        for i in range(3):
            for k in range(3):
                middle[k] += positions[triangles[t, i], k]
    middle /= max(3 * len(triangles), 1)
    for t in range(len(triangles)):
        for i in range(3):
            for k in range(3):
                p[i, k] = positions[triangles[t, i], k] - middle[k]
            most = max(most, p[i, 0] ** 2 + p[i, 1] ** 2 + p[i, 2] ** 2)
        sums += p[0, 0] * (p[1, 1] * p[2, 2] - p[1, 2] * p[2, 1])
        sums += p[0, 1] * (p[1, 2] * p[2, 0] - p[1, 0] * p[2, 2])
        sums += p[0, 2] * (p[1, 0] * p[2, 1] - p[1, 1] * p[2, 0])
        for k in range(3):
            a, b = (k + 1) % 3, (k + 2) % 3
            areas[k] += (p[1, a] - p[0, a]) * (p[2, b] - p[0, b]) - (p[1, b] - p[0, b]) * (p[2, a] - p[0, a])
    moves = np.sqrt(most * (areas[0] ** 2 + areas[1] ** 2 + areas[2] ** 2))
    return sums / 6 if abs(sums) > moves else 0.0
