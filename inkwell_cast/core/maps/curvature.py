"""Curvature: bright where the sculpt is convex, dark in grooves.

The layer holds the mean curvature of the sculpt in 1 / scene unit: positive where convex, 1 / r on a sphere of radius
r. In a triangle it is half the divergence of its interpolated vertex normals, sum of n_i . grad(phi_i) / 2; spread to
vertices by area. It is gathered within a radius R by two steps of diffusion of R^2 / 8 each, so that neither density
nor the pattern of triangles shows, nor any seam of UVs, which the sculpt does not have; surfaces much finer than the
radius are gathered into patches first (`mesh.patches`).
"""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, F64, I32, AnyArray
from ..base.kernels import kernel
from ..base.progress import Cancel, ShareDone
from ..base.setting import scene_units
from ..base.threads import in_shares
from ..cast.context import Context
from ..cast.hits import Hits
from ..mesh.diffusion import Links, diffused, links_of
from ..mesh.mesh import Mesh
from ..mesh.normals import vertices, with_normals
from ..mesh.patches import patches_of
from ..piece.scene_cache import Slot
from ..settings.recipe import Recipe
from .hits_of_tile import mean_of_corners, over_tiles
from .value_range import Derived, one_sided, signed

KEY, LABEL = "curvature", "Curvature"
REASON = "How strongly the sculpt bends, evened out within a radius."
LAYER, GROUP, SPACE = "curvature", "curvature", "linear"
BACKGROUND = (0.5,)
PERCENTILE = 98.0
CURVATURES = {group: Slot[tuple[F32, I32]]() for group in ("curvature", "cavity")}


def derive(context: Context, layer: AnyArray | None) -> Derived:
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


STEPS = 2  # of diffusion: of one step alone long waves would be lost, and short ones kept
CELLS = 3.0  # to a radius, into which the vertices of fine surfaces are gathered
FINE = 2.0  # vertices to a cell from which on they are
BLURRED = 0.46  # square cells of a square radius that gathering and spreading even out themselves


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
        return context.warm.once(CURVATURES[self.group], key, lambda: curvature_of(mesh, radius, context.warm.stopped))

    def gather(
        self,
        context: Context,
        hits: Hits,
        ready: tuple[F32, I32],
        out: AnyArray,
        progress: ShareDone,
        cancelled: Cancel,
    ) -> None:
        over_tiles(hits, context.low.grid, mean_of_corners, (*ready, out), progress, cancelled)


def curvature_of(mesh: Mesh, radius: float, cancelled: Cancel = lambda: False) -> tuple[F32, I32]:
    """Values (V, 1) float32 and the row of each corner (T, 3) int32; radius in scene units, 0 for none.

    Raises Cancelled.
    """
    points, triangles, shared = vertices(mesh)
    corners: I32 = triangles if (shared == np.arange(len(shared))).all() else shared[triangles]
    normals = _normals_of(mesh, points, corners)
    sums, mass = np.zeros(len(points)), np.zeros(len(points))
    in_shares(len(points), lambda first, last: _by_triangle(first, last, points, normals, corners, sums, mass))
    cell = radius / CELLS
    if radius > 0 and np.count_nonzero(mass) >= FINE * float(mass.sum()) / cell**2:
        patches = patches_of(points, normals, corners, sums, mass, cell, cancelled)
        left = float(np.sqrt(radius**2 - BLURRED * cell**2))
        evened = _evened(patches.means, patches.mass, patches.links, left, cancelled)
        return patches.spread(evened, points)[:, None], corners
    means = np.divide(sums, mass, out=sums, where=mass > 0)
    if radius > 0:
        means = _evened(means, mass, links_of(points, corners), radius, cancelled)
    return means.astype(np.float32)[:, None], corners


def _normals_of(mesh: Mesh, points: F32, corners: I32) -> F32:
    """The mesh's own normal of each point, where several meet in one their mean, (V, 3) unit float32."""
    dressed = with_normals(mesh).normals
    assert dressed is not None
    if corners is mesh.triangles and np.array_equal(dressed.corners, corners):
        return dressed.values
    normals = np.zeros((len(points), 3), np.float32)
    arguments = points, corners, dressed.values, dressed.corners, normals
    in_shares(len(points), lambda first, last: _at_vertices(first, last, *arguments))
    return normals


def _evened(values: F64, mass: F64, links: Links, radius: float, cancelled: Cancel) -> F64:
    """Values (V,) evened out within a radius."""
    for _ in range(STEPS):
        values = diffused(values, mass, links, radius * radius / (4 * STEPS), cancelled)
    return values


@kernel
def _at_vertices(first: int, last: int, points: F32, corners: I32, values: F32, rows: I32, sums: F32) -> None:
    """Of points first to last the mean of the normals of all corners that meet there, by their angles, (V, 3)."""
    for t in range(len(corners)):
        for i in range(3):
            if not first <= corners[t, i] < last:
                continue
            a, b, c = points[corners[t, i]], points[corners[t, (i + 1) % 3]], points[corners[t, (i + 2) % 3]]
            ux, uy, uz = np.float64(b[0]) - a[0], np.float64(b[1]) - a[1], np.float64(b[2]) - a[2]
            vx, vy, vz = np.float64(c[0]) - a[0], np.float64(c[1]) - a[1], np.float64(c[2]) - a[2]
            cx, cy, cz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
            angle = np.arctan2(np.sqrt(cx * cx + cy * cy + cz * cz), ux * vx + uy * vy + uz * vz)
            for k in range(3):
                sums[corners[t, i], k] += angle * values[rows[t, i], k]
    for v in range(first, last):
        length = np.sqrt(np.float64(sums[v, 0]) ** 2 + np.float64(sums[v, 1]) ** 2 + np.float64(sums[v, 2]) ** 2)
        if length > 0:
            for k in range(3):
                sums[v, k] /= length


@kernel
def _by_triangle(first: int, last: int, points: F32, normals: F32, corners: I32, sums: F64, mass: F64) -> None:
    """Of points first to last curvature times area, and area, (V,)."""
    e = np.empty((3, 3))
    for t in range(len(corners)):
        p, q, r = corners[t, 0], corners[t, 1], corners[t, 2]
        if not (first <= p < last or first <= q < last or first <= r < last):
            continue
        for i in range(3):
            a, b = points[corners[t, (i + 1) % 3]], points[corners[t, (i + 2) % 3]]
            for k in range(3):
                e[i, k] = np.float64(b[k]) - a[k]  # the edge across from corner i
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
        for v in (p, q, r):
            if first <= v < last:
                sums[v] += 0.5 * bend * double / 6
                mass[v] += double / 6


GATHERS = CurvatureLayer("curvature")
