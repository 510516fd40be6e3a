"""Normal map in tangent space: the sculpt's normal in the low's basis (see `tangent.frame`)."""

from typing import Any

import numpy as np

from ..base.array_types import F32, U8, AnyArray
from ..base.kernels import kernel, prange
from ..base.records import Record, shared, view
from ..cast.context import Context
from ..cast.hits import Cast
from ..cast.texel import barycentrics_at, triangle_at
from ..piece.low_on_sheet import Low
from ..settings.basis import Basis
from ..tangent.frame import form_of, frame, green_sign, to_object, to_tangent
from .value_range import Derived

KEY = "normal"
LABEL = "Normal"
REASON = "The sculpt's normals in the low's tangent basis."
LAYER, GROUP, SPACE = "", "", "linear"
BACKGROUND = (0.5, 0.5, 1.0)  # what the sheet shows beyond the padding


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 3) float32: 0.5 x + 0.5; texels that missed the sculpt keep the low's own normal."""
    cast = context.cast
    return Derived(encoded(cast, context.low, context.recipe.basis, cast.normal, cast.struck))


def read_back(image: F32, context: Context) -> F32:
    """Object-space unit normals (H, W, 3) float32 that a receiver computes from the stored values; overwrites them."""
    return decoded(context.cast, context.low, context.recipe.basis, image)


def encoded(cast: Cast, low: Low, basis: Basis, normals: F32, struck: AnyArray) -> F32:
    """Object-space vectors (H, W, 3) in the basis of the low, 0.5 x + 0.5; where not struck the low's own normal."""
    out = np.zeros(normals.shape, np.float32)
    _encode(shared(low.record), shared(cast.record), struck, normals, green_sign(basis), form_of(basis), out)
    return out


def decoded(cast: Cast, low: Low, basis: Basis, image: F32) -> F32:
    """Object-space unit normals from values stored in the basis of the low, in their place."""
    _decode(shared(low.record), shared(cast.record), image, green_sign(basis), form_of(basis))
    return image


@kernel(parallel=True)
def _encode(lows: AnyArray, casts: AnyArray, struck: U8, normal: F32, sign: float, form: int, out: F32) -> None:
    """Object-space vectors `normal (H, W, 3)` as stored values; records of the kinds `LOW` and `CAST`, shared."""
    for y in prange(out.shape[0]):
        for x in range(out.shape[1]):
            t = triangle_at(x, y, casts[0])
            if t < 0:
                continue
            tx, ty, tz = 0.0, 0.0, 1.0
            if struck[y, x]:
                tx, ty, tz = to_tangent(normal[y, x], frame_at(x, y, lows[0], casts[0], form))
            out[y, x, 0] = 0.5 * tx + 0.5
            out[y, x, 1] = 0.5 * sign * ty + 0.5
            out[y, x, 2] = 0.5 * tz + 0.5


@kernel(parallel=True)
def _decode(lows: AnyArray, casts: AnyArray, image: F32, sign: float, form: int) -> None:
    """Stored values `image (H, W, 3)` as object-space unit normals, in their place; records as for `_encode`."""
    for y in prange(image.shape[0]):
        for x in range(image.shape[1]):
            t = triangle_at(x, y, casts[0])
            if t < 0:
                continue
            tx, ty, tz = 2.0 * image[y, x, 0] - 1.0, sign * (2.0 * image[y, x, 1] - 1.0), 2.0 * image[y, x, 2] - 1.0
            nx, ny, nz = to_object(tx, ty, tz, frame_at(x, y, lows[0], casts[0], form))
            image[y, x, 0], image[y, x, 1], image[y, x, 2] = nx, ny, nz


@kernel(inline="always")
def frame_at(x: int, y: int, low: Record, cast: Record, form: int) -> Any:
    """The tangent frame of the low at a texel that lies on it, see `tangent.frame.frame`."""
    t = triangle_at(x, y, cast)
    b0, b1, b2 = barycentrics_at(x, y, t, low, cast)
    normals, tangents = (
        view(low, "normals"),
        view(low, "tangents"),
    )
    return frame(b0, b1, b2, normals[t], tangents[t], form)
