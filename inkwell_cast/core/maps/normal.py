"""Normal map in tangent space: the sculpt's normal in the low's basis (see `basis`)."""

import numba
import numpy as np

from ..base.array_types import F32, Any_
from ..cast.context import Context
from ..cast.hits import Cast
from ..piece.low_on_sheet import Low
from ..settings.basis import Basis
from ..tangent.frame import form_of, frame, to_object, to_tangent
from ..uv.rasterise import texel_barycentrics
from .derived import Derived

KEY = "normal"
LABEL = "Normal"
REASON = "The sculpt's normals in the low's tangent basis."
LAYER, GROUP, SPACE = "", "", "linear"
BACKGROUND = (0.5, 0.5, 1.0)  # what the sheet shows beyond the padding


def derive(context: Context, layer: Any_ | None) -> Derived:
    """(H, W, 3) float32: 0.5 x + 0.5; texels that missed the sculpt keep the low's own normal."""
    cast = context.cast
    return Derived(encoded(cast, context.low, context.recipe.basis, cast.normal, cast.struck))


def read_back(image: F32, context: Context) -> F32:
    """Object-space unit normals (H, W, 3) float32 that a receiver computes from the stored values; overwrites them."""
    return decoded(context.cast, context.low, context.recipe.basis, image)


def encoded(cast: Cast, low: Low, basis: Basis, normals: F32, struck: Any_) -> F32:
    """Object-space vectors (H, W, 3) in the basis of the low, 0.5 x + 0.5; where not struck the low's own normal."""
    g, out = low.grid, np.zeros(normals.shape, np.float32)
    _encode(
        cast.low_triangle, cast.sample, struck, normals, g.corners, g.side, g.shift, low.normals, low.tangents,
        1.0 if basis.green == "up" else -1.0, form_of(basis), out,
    )  # fmt: skip
    return out


def decoded(cast: Cast, low: Low, basis: Basis, image: F32) -> F32:
    """The other way: unit normals in object space from stored values, in their place."""
    g = low.grid
    _decode(
        cast.low_triangle, cast.sample, image, g.corners, g.side, g.shift, low.normals, low.tangents,
        1.0 if basis.green == "up" else -1.0, form_of(basis),
    )  # fmt: skip
    return image


@numba.njit(cache=True, nogil=True, parallel=True)
def _encode(low_triangle, sample, struck, normal, corners, side, shift, normals, tangents, sign, form, out):  # type: ignore[no-untyped-def]
    height, width = low_triangle.shape
    for y in numba.prange(height):
        for x in range(width):
            t = low_triangle[y, x]
            if t < 0:
                continue
            tx, ty, tz = 0.0, 0.0, 1.0
            if struck[y, x]:
                b0, b1, b2 = texel_barycentrics(corners, t, x, y, sample[y, x], side, shift)
                tx, ty, tz = to_tangent(normal[y, x], frame(b0, b1, b2, normals[t], tangents[t], form))
            out[y, x, 0] = 0.5 * tx + 0.5
            out[y, x, 1] = 0.5 * sign * ty + 0.5
            out[y, x, 2] = 0.5 * tz + 0.5


@numba.njit(cache=True, nogil=True, parallel=True)
def _decode(low_triangle, sample, image, corners, side, shift, normals, tangents, sign, form):  # type: ignore[no-untyped-def]
    height, width = low_triangle.shape
    for y in numba.prange(height):
        for x in range(width):
            t = low_triangle[y, x]
            if t < 0:
                continue
            b0, b1, b2 = texel_barycentrics(corners, t, x, y, sample[y, x], side, shift)
            tx, ty, tz = 2.0 * image[y, x, 0] - 1.0, sign * (2.0 * image[y, x, 1] - 1.0), 2.0 * image[y, x, 2] - 1.0
            nx, ny, nz = to_object(tx, ty, tz, frame(b0, b1, b2, normals[t], tangents[t], form))
            image[y, x, 0], image[y, x, 1], image[y, x, 2] = nx, ny, nz
