"""A map written to the vertices of the low, for receivers without textures.

Values at vertices are those that, interpolated over the low's triangles, come nearest to the map in the square mean
over its surface; what no texel tells of is held to its neighbours. L. Kavan, A. Bargteil and P. Sloan, "Least Squares
Vertex Baking", EGSR 2011.
"""

from dataclasses import replace

import numpy as np

from ..base.array_types import F32, F64, I32, I64
from ..base.color_space import to_linear
from ..base.errors import InputProblem
from ..base.on_demand import on_demand
from ..images import png
from ..maps import REGISTRY
from ..mesh.mesh import CornerValues, Mesh
from ..mesh.normals import vertices
from ..piece.low_on_sheet import prepare_lows
from ..settings.map_names import IN_TANGENT_BASIS
from ..uv.layout import SheetPlan
from .bake_on_disk import Finished
from .convert_normals import rasterised

csc_array = on_demand("scipy.sparse", "csc_array")
splu = on_demand("scipy.sparse.linalg", "splu")

EVEN = 1e-3  # of the mean weight of a vertex: how strongly each is held to the mean of its neighbours


def worn_by_vertices(finished: Finished, low: Mesh, sheets: list[SheetPlan], key: str) -> Mesh:
    """The low with a map of the bake as its vertex colours: linear light, or the values as they are, 0 to 1."""
    refuse_tangent_basis(finished.piece, key)
    _, triangles, shared = vertices(low)
    _, place = np.unique(shared, return_inverse=True)
    welded: I32 = place[triangles].astype(np.int32)
    told = [_told(finished, low, sheet, key) for sheet in sheets]
    rows, weights, values = (np.concatenate(part) for part in zip(*told, strict=True))
    fitted = fit(welded, low.positions[low.triangles], rows, weights, values)
    colors = np.clip(np.pad(fitted, ((0, 0), (0, 1)), constant_values=1), 0, 1).astype(np.float32)
    return replace(low, colors=CornerValues(colors, welded), color_space="linear")


def refuse_tangent_basis(piece: str, key: str) -> None:
    """Raise InputProblem for a map that means nothing without the tangents at each texel."""
    if key in IN_TANGENT_BASIS:
        raise InputProblem(
            piece,
            f"{REGISTRY[key].LABEL} in the low's tangent basis means nothing at its vertices.",
            "Give them another map, such as the normals in object space.",
        )


def _told(finished: Finished, low: Mesh, sheet: SheetPlan, key: str) -> tuple[I64, F64, F32]:
    """Of each texel of a sheet that lies on the low: its triangle (N,), barycentrics (N, 3), and the map (N, 3)."""
    path = finished.picture(sheet.name, key)
    if path is None:
        label = REGISTRY[key].LABEL.lower()
        raise InputProblem(finished.piece, f"This bake has no {label} for its vertices.", "Bake that map too.")
    image = png.dequantise(png.read(path))
    if REGISTRY[key].SPACE == "sRGB":
        image = to_linear(image)
    height, width = image.shape[:2]
    channel = finished.manifest.recipe.sheet.channel
    plan = replace(sheet, width=width, height=height)
    cast = rasterised(prepare_lows(low, [plan], channel, 1)[0])
    y, x = np.nonzero(cast.covered)
    row = cast.low_triangle[y, x]
    u, v = (x + 0.5) / width, 1 - (y + 0.5) / height
    a, b, c = (plan.uvs[row, k] for k in range(3))
    area = _cross(b - a, c - a)
    point = np.stack([u, v], axis=1)
    safe = np.where(area == 0, 1, area)
    b1, b2 = _cross(point - a, c - a) / safe, _cross(b - a, point - a) / safe
    weights = np.clip(np.stack([1 - b1 - b2, b1, b2], axis=1), 0, 1)
    return plan.triangles[row].astype(np.int64), weights / weights.sum(axis=1, keepdims=True), image[y, x]


def _cross(a: F64, b: F64) -> F64:
    return np.asarray(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])


def fit(triangles: I32, corners: F32, rows: I64, weights: F64, values: F32) -> F64:
    """Values (V, C) at the vertices of triangles (T, 3) with corners (T, 3, 3) that fit those given.

    values (N, C) lie in triangles `rows` (N,) at barycentrics `weights` (N, 3); those of a triangle count together as
    much as its surface. What none tells of is smooth.
    """
    count = int(triangles.max(initial=-1)) + 1
    edges = (corners[:, 1] - corners[:, 0]).astype(np.float64), (corners[:, 2] - corners[:, 0]).astype(np.float64)
    surface = np.linalg.norm(np.cross(*edges), axis=1) / 2
    each = (surface / np.maximum(np.bincount(rows, minlength=len(triangles)), 1))[rows]
    at = triangles[rows]
    first, second = np.repeat(at, 3, axis=1).reshape(-1), np.tile(at, (1, 3)).reshape(-1)
    products = (weights[:, :, None] * weights[:, None, :] * each[:, None, None]).reshape(-1)
    told = csc_array((products, (first, second)), shape=(count, count))
    held = _held(triangles, count) * (EVEN * surface.sum() / max(count, 1))
    right = np.zeros((count, values.shape[1]))
    for k in range(3):
        np.add.at(right, at[:, k], weights[:, k, None] * each[:, None] * values)
    tiny = csc_array((np.full(count, 1e-12 * max(surface.sum(), 1e-30)), (range(count), range(count))))
    return np.asarray(splu(csc_array(told + held + tiny)).solve(right))


def _held(triangles: I32, count: int) -> F64:
    """The square of what vertices differ from their neighbours by, each edge counted once a triangle (V, V)."""
    a, b = triangles.reshape(-1), np.roll(triangles, -1, axis=1).reshape(-1)
    ones = np.ones(len(a))
    rows, columns = np.concatenate([a, b, a, b]), np.concatenate([a, b, b, a])
    return csc_array((np.concatenate([ones, ones, -ones, -ones]), (rows, columns)), shape=(count, count))  # type: ignore[no-any-return]
