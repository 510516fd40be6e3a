"""Displacement: how far each place of the low moves along its normal, the first step of a two-step relief.

The sculpt's large forms become a displacement of the low, on which the other maps are then baked. Every vertex of the
(subdivided) low moves along its averaged normal. How far is the least-squares fit to the sculpt's height over an even
spread of places on the low, sum (b · o - h)^2, b being a place's barycentrics, with a little stiffness between
neighbours that carries the fit over places where no ray struck. So the displacement holds just what the low can carry
at its density, and is one number a vertex: it opens no crack at UV seams.
"""

from dataclasses import replace

import numpy as np

from ..base.array_types import F32, F64, I32, I64, U8, U64, AnyArray
from ..base.errors import InputProblem
from ..base.kernels import kernel, prange
from ..base.on_demand import on_demand
from ..base.progress import ShareDone
from ..base.records import Record, shared, view
from ..base.threads import in_batches
from ..cage.cage import reaches
from ..cage.fit import cage_of
from ..cast.context import Context
from ..mesh.adjacency import differs_across, edges_of, shaded
from ..mesh.mesh import Mesh, corner_positions, values_at_corners
from ..mesh.normals import averaged, vertices
from ..mesh.subdivision import SAME_NORMAL
from ..mesh.surface_samples import few_over
from ..piece.piece import Assembly, Relief
from ..piece.scene_cache import Slot, Warm
from ..piece.sculpt import Sculpt
from ..rays.embree import hit_along
from ..rays.modifiers.modifiers import no_modifiers
from ..rays.ray import make_ray, rays_through
from ..settings.staleness import RELIEF, displaces, settings_behind
from ..uv.rasterise import texel_barycentrics
from .value_range import Derived, signed

csr_array = on_demand("scipy.sparse", "csr_array")
diags_array = on_demand("scipy.sparse", "diags_array")
cg = on_demand("scipy.sparse.linalg", "cg")

KEY, LABEL = "displacement", "Displacement"
REASON = "The large forms move the subdivided low; the other maps are baked onto what that gives."
LAYER, GROUP, SPACE = "", "displacement", "linear"
BACKGROUND = (0.5,)
RELIEF_OF_LOW = Slot[tuple[Mesh, Relief]]()


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 1) float32: 0.5 + d / (2 d_max).

    Facts: d_max in scene units; the low's subdivision and triangles; mean and 95th percentile of the distance along the
    rays to the sculpt, from the low and from the displaced low.
    """
    relief, low, cast = context.assembly.relief, context.low, context.cast
    assert relief is not None
    values = np.zeros(cast.covered.shape, np.float32)
    offsets = np.ascontiguousarray(relief.offsets[low.triangles])
    _interpolate(cast.low_triangle, cast.sample, shared(low.grid.record), offsets, values)
    image, facts = signed(values, cast.covered, context.recipe.displacement.range, 100.0)
    how = context.recipe.subdivision
    facts |= {
        "unit": "scene units",
        "scheme": how.scheme,
        "levels": how.levels if how.scheme != "none" else 0,
        "triangles": relief.triangles,
        "distance_before": list(relief.before),
        "distance_after": list(relief.after),
    }
    return Derived(image, facts, values[..., None].copy)


@kernel(parallel=True)
def _interpolate(low_triangle: I32, sample: U8, grids: AnyArray, values: F32, out: F32) -> None:
    """Values at a triangle's corners (P, 3), at every texel."""
    height, width = low_triangle.shape
    for y in prange(height):
        for x in range(width):
            t = low_triangle[y, x]
            if t >= 0:
                b0, b1, b2 = texel_barycentrics(t, x, y, sample[y, x], grids[0])
                out[y, x] = b0 * values[t, 0] + b1 * values[t, 1] + b2 * values[t, 2]


A_VERTEX, LEAST, MOST = 16, 100_000, 4_000_000  # places
STIFFNESS = 0.01  # of a vertex's own weight
CLOSE = 1e-7


def displaced(assembly: Assembly, warm: Warm, tell: ShareDone = lambda share: None) -> Assembly:
    """The assembly with its low moved onto the sculpt's large forms, if the recipe has a displacement; else as it is.

    Raises InputProblem where no ray strikes the sculpt, and what `tell(share)` raises.
    """
    if not displaces(assembly.recipe) or not assembly.paired.pairs:
        return assembly
    sculpt = warm.sculpt(assembly)
    key = f"{settings_behind(assembly.recipe, RELIEF)} {assembly.digest()} {sculpt.serial}"
    low, relief = warm.once(RELIEF_OF_LOW, key, lambda: _displaced(assembly, sculpt, warm, tell))
    return replace(assembly, low=low, relief=relief)


def _displaced(assembly: Assembly, sculpt: Sculpt, warm: Warm, tell: ShareDone) -> tuple[Mesh, Relief]:
    low, along = assembly.low, averaged(assembly.low)
    cage = cage_of(assembly, warm, tell)
    lengths = np.linalg.norm(cage.corners, axis=2, keepdims=True)
    points, (_, inward) = corner_positions(low), reaches(assembly)
    count = len(low.triangles)
    modifiers = replace(no_modifiers(count, len(assembly.paired.pairs)), pockets=cage.modifiers.pockets)
    rays = rays_through(points, np.asarray(along * lengths, np.float32), inward, assembly.low_pair, modifiers)
    edges = edges_of(low)
    _, place = np.unique(edges.ids.reshape(-1), return_inverse=True)
    ids = place.reshape(-1, 3)
    many = int(ids.max()) + 1
    owner, b = few_over(points.astype(np.float64), int(np.clip(A_VERTEX * many, LEAST, MOST)))
    height = np.empty(len(owner), np.float32)

    def work(i: int, j: int) -> None:
        _heights(owner[i:j], b[i:j], height[i:j], rays.record, sculpt.tracers)

    in_batches(len(owner), work, tell)
    struck = np.isfinite(height)
    if not struck.any():
        raise InputProblem(
            "The displacement", "No ray from the low strikes the sculpt.", "Raise the reach on the Cage step."
        )
    offsets = _fitted(ids, many, owner[struck], b[struck], height[struck].astype(np.float64))
    left = np.abs(height[struck] - np.einsum("nk,nk->n", b[struck], offsets[ids[owner[struck]]]))
    at_corners = np.asarray(offsets[ids], np.float32)
    positions, triangles, _ = vertices(low)
    moved = positions.copy()
    moved[triangles] = positions[triangles] + along * at_corners[..., None]
    hard = np.zeros(ids.shape, bool)
    if low.normals is not None:
        hard = differs_across(low.normals.at_corners(), edges, SAME_NORMAL)
    moved_low = replace(low, positions=moved, triangles=triangles)
    moved_low = replace(moved_low, normals=values_at_corners(shaded(moved_low, edges, hard, False)), tangents=None)
    return moved_low, Relief(at_corners, count, _spread_of(np.abs(height[struck])), _spread_of(left))


def _spread_of(distances: F32 | F64) -> tuple[float, float]:
    return float(distances.mean()), float(np.percentile(distances, 95))


def _fitted(ids: I64, many: int, owner: I64, b: F64, height: F64) -> F64:
    """The offsets (V,) at vertices that come nearest to the heights (N,) at barycentrics b (N, 3) of triangles."""
    rows = np.repeat(np.arange(len(owner)), 3)
    places = csr_array((b.reshape(-1), (rows, ids[owner].reshape(-1))), shape=(len(owner), many))
    ends = np.concatenate([ids[:, [0, 1]], ids[:, [1, 2]], ids[:, [2, 0]]])
    links = csr_array((np.ones(len(ends)), (ends[:, 0], ends[:, 1])), shape=(many, many))
    links = ((links + links.T) > 0).astype(np.float64)
    weight = (places.T @ places).tocsr()
    stiff = STIFFNESS * max(float(weight.diagonal().mean()), 1e-30)
    system = weight + stiff / 6 * (diags_array(links.sum(axis=1)) - links)
    jacobi = diags_array(1 / np.maximum(system.diagonal(), 1e-30))
    solved, _ = cg(system, places.T @ height, rtol=CLOSE, maxiter=2000, M=jacobi)
    return np.asarray(solved)


@kernel
def _heights(triangle: I64, b: F64, height: F32, rays: Record, tracers: U64) -> None:
    """How far each ray's hit stands off the low, positive outside; not a number where it strikes nothing."""
    pair = view(rays, "pair")
    for i in range(len(triangle)):
        t = triangle[i]
        ray = make_ray(t, b[i, 0], b[i, 1], b[i, 2], rays)
        ox, oy, oz, dx, dy, dz, out, far = ray
        length, _, _, hit = hit_along(tracers[pair[t], 0], tracers[pair[t], 1], ox, oy, oz, dx, dy, dz, far)
        height[i] = out - length if hit >= 0 else np.nan
