"""Curvature: bright where the sculpt is convex, dark in grooves.

The layer holds the mean curvature of the sculpt in 1 / scene unit: positive where convex, 1 / r on a sphere of radius
r. In a triangle it is half the divergence of its interpolated vertex normals, sum of n_i . grad(phi_i) / 2; spread to
vertices by area. It is gathered within a radius R by one step of diffusion, (M + R^2 / 4 S) k = M k0, with the lumped
mass M and the cotangent stiffness S of linear elements (M. Botsch et al., "Polygon Mesh Processing", 2010, chapters 3
and 4), so that neither the density nor the pattern of triangles shows, nor any seam of UVs, which the sculpt does not
have.
"""

from dataclasses import dataclass

import numba
import numpy as np
from scipy.sparse import csr_array
from scipy.sparse.linalg import cg

from ..base.array_types import F32, F64, I32, Any_
from ..base.setting import scene_units
from ..cast.context import Context
from ..cast.hits import Hits
from ..mesh.mesh import Mesh
from ..mesh.normals import vertices, with_normals
from ..piece.scene_cache import Slot
from ..settings.recipe import Recipe
from .derived import Derived, one_sided, signed
from .hits_of_tile import Cancel, Progress, mean_of_corners, over_tiles

KEY, LABEL = "curvature", "Curvature"
REASON = "How strongly the sculpt bends, evened out within a radius."
LAYER, GROUP, SPACE = "curvature", "curvature", "linear"
BACKGROUND = (0.5,)
PERCENTILE = 98.0
CURVATURES = {group: Slot[tuple[F32, I32]]() for group in ("curvature", "cavity")}


def derive(context: Context, layer: Any_ | None) -> Derived:
    """(H, W, 1) float32; see `settings.maps.Curvature`. Facts: its range in 1 / scene units."""
    assert layer is not None
    settings, struck = context.recipe.curvature, context.cast.struck
    values: F32 = layer[..., 0]
    if settings.signs == "both":
        image, facts = signed(values, struck, settings.strength, PERCENTILE)
    else:
        side = values if settings.signs == "convex" else -values
        image, facts = one_sided(side, struck, settings.strength, PERCENTILE)
    return Derived(image, facts | {"unit": "1 / scene unit", "signs": settings.signs}, layer.copy)


CLOSE = 1e-4  # of the residual


@dataclass(frozen=True, slots=True)
class CurvatureLayer:
    """The layer of one group of settings; what has no radius is as fine as the sculpt."""

    group: str
    CHANNELS: int = 1
    KIND: type = np.float32

    def cost(self, recipe: Recipe) -> float:
        return 0.3

    def prepare(self, context: Context) -> tuple[F32, I32]:
        recipe = context.assembly.recipe
        settings, radius = recipe.curvature, 0.0
        if self.group == "curvature":
            radius = settings.radius * scene_units(settings.unit, context.assembly.low.diagonal)
        key, mesh = f"{context.sculpt.serial} {radius}", context.sculpt.mesh
        return context.warm.once(CURVATURES[self.group], key, lambda: curvature_of(mesh, radius))

    def gather(
        self, context: Context, hits: Hits, ready: tuple[F32, I32], out: Any_, progress: Progress, cancelled: Cancel
    ) -> None:
        over_tiles(hits, context.low.grid, mean_of_corners, (*ready, out), progress, cancelled)


def curvature_of(mesh: Mesh, radius: float) -> tuple[F32, I32]:
    """Values (V, 1) float32 and the row of each corner (T, 3) int32; radius in scene units, 0 for none."""
    positions, triangles, shared = vertices(mesh)
    ids = shared[triangles]
    used, place = np.unique(ids.reshape(-1), return_inverse=True)
    corners = place.reshape(-1, 3).astype(np.int32)
    points = positions[used].astype(np.float64)
    dressed = with_normals(mesh)
    assert dressed.normals is not None
    normals = _at_vertices(points, corners, dressed.normals.values, dressed.normals.corners)
    sums, mass, weights = _by_triangle(points, normals, corners)
    values = sums / np.maximum(mass, 1e-300)
    if radius > 0:
        values = _diffused(values, mass, weights, corners, radius)
    return values.astype(np.float32)[:, None], corners


@numba.njit(cache=True, nogil=True)
def _at_vertices(points, corners, values, rows):  # type: ignore[no-untyped-def]
    """The mesh's own normals of all corners that meet at a vertex, weighted with their angles, (V, 3) unit."""
    sums = np.zeros((len(points), 3))
    for t in range(len(corners)):
        for i in range(3):
            a, b, c = corners[t, i], corners[t, (i + 1) % 3], corners[t, (i + 2) % 3]
            ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
            vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
            cx, cy, cz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
            angle = np.arctan2(np.sqrt(cx * cx + cy * cy + cz * cz), ux * vx + uy * vy + uz * vz)
            for k in range(3):
                sums[a, k] += angle * values[rows[t, i], k]
    for v in range(len(sums)):
        length = np.sqrt(sums[v, 0] ** 2 + sums[v, 1] ** 2 + sums[v, 2] ** 2)
        if length > 0:
            for k in range(3):
                sums[v, k] /= length
    return sums


@numba.njit(cache=True, nogil=True)
def _by_triangle(points, normals, corners):  # type: ignore[no-untyped-def]
    """Curvature times area (V,), area (V,) and cotangents (T, 3) across from each corner."""
    sums, mass = np.zeros(len(points)), np.zeros(len(points))
    weights = np.zeros((len(corners), 3))
    e = np.empty((3, 3))
    for t in range(len(corners)):
        for i in range(3):
            a, b = corners[t, (i + 1) % 3], corners[t, (i + 2) % 3]
            for k in range(3):
                e[i, k] = points[b, k] - points[a, k]  # the edge across from corner i
        nx = e[0, 1] * e[1, 2] - e[0, 2] * e[1, 1]
        ny = e[0, 2] * e[1, 0] - e[0, 0] * e[1, 2]
        nz = e[0, 0] * e[1, 1] - e[0, 1] * e[1, 0]
        double = np.sqrt(nx * nx + ny * ny + nz * nz)
        if double <= 0:
            continue
        bend = 0.0
        for i in range(3):
            # grad(phi_i) = n x e_i / (2 A)
            gx = (ny * e[i, 2] - nz * e[i, 1]) / (double * double)
            gy = (nz * e[i, 0] - nx * e[i, 2]) / (double * double)
            gz = (nx * e[i, 1] - ny * e[i, 0]) / (double * double)
            v = corners[t, i]
            bend += normals[v, 0] * gx + normals[v, 1] * gy + normals[v, 2] * gz
            j, k = (i + 1) % 3, (i + 2) % 3
            dot = e[j, 0] * e[k, 0] + e[j, 1] * e[k, 1] + e[j, 2] * e[k, 2]
            weights[t, i] = max(-dot / double, 1e-3)  # obtuse corners would make it oscillate
        for i in range(3):
            sums[corners[t, i]] += 0.5 * bend * double / 6
            mass[corners[t, i]] += double / 6
    return sums, mass, weights


def _diffused(values: F64, mass: F64, weights: F64, corners: I32, radius: float) -> F64:
    count = len(values)
    ends = [(corners[:, (i + 1) % 3], corners[:, (i + 2) % 3], weights[:, i] / 2) for i in range(3)]
    rows = np.concatenate([np.concatenate([a, b]) for a, b, _ in ends])
    columns = np.concatenate([np.concatenate([b, a]) for a, b, _ in ends])
    links = np.concatenate([np.concatenate([w, w]) for _, _, w in ends])
    whole = np.bincount(rows, links, count)
    step = radius * radius / 4
    diagonal = mass + step * whole
    every = np.arange(count)
    system = csr_array(
        (
            np.concatenate([-step * links, diagonal]),
            (np.concatenate([rows, every]), np.concatenate([columns, every])),
        ),
        shape=(count, count),
    )
    scale = 1 / np.maximum(diagonal, 1e-300)
    jacobi = csr_array((scale, (every, every)), shape=(count, count))
    smoothed, _ = cg(system, mass * values, x0=values, rtol=CLOSE, maxiter=500, M=jacobi)
    return np.asarray(smoothed)


GATHERS = CurvatureLayer("curvature")
