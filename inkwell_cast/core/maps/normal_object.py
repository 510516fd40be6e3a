"""Normal map in object space: the sculpt's normal in the axes of the file."""

import numpy as np

from ..base.array_types import F32, U8, AnyArray
from ..base.kernels import kernel, prange
from ..base.records import shared
from ..cast.context import Context
from ..cast.texel import barycentrics_at, triangle_at
from .value_range import Derived

KEY = "normal_object"
LABEL = "Normal, object"
REASON = "The sculpt's normals in the axes of the file; for what does not deform."
LAYER, GROUP, SPACE = "", "", "linear"
BACKGROUND = (0.5, 0.5, 0.5)  # what the sheet shows beyond the padding


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 3) float32: 0.5 n + 0.5 of the unit normal; texels that missed keep the low's own normal."""
    cast, low = context.cast, context.low
    out = np.zeros(cast.normal.shape, np.float32)
    _encode(shared(low.record), shared(cast.record), cast.struck, cast.normal, low.normals, out)
    return Derived(out)


def read_back(image: F32, context: Context) -> F32:
    """Object-space unit normals (H, W, 3) float32 from the stored values; overwrites them."""
    _decode(image)
    return image


@kernel(parallel=True)
def _encode(lows: AnyArray, casts: AnyArray, struck: U8, normal: F32, normals: F32, out: F32) -> None:
    """Vectors `normal (H, W, 3)` as stored values; records of the kinds `LOW` and `CAST`, shared."""
    for y in prange(out.shape[0]):
        for x in range(out.shape[1]):
            t = triangle_at(x, y, casts[0])
            if t < 0:
                continue
            nx, ny, nz = normal[y, x, 0], normal[y, x, 1], normal[y, x, 2]
            if struck[y, x] == 0:
                b0, b1, b2 = barycentrics_at(x, y, t, lows[0], casts[0])
                nx = np.float32(b0 * normals[t, 0, 0] + b1 * normals[t, 1, 0] + b2 * normals[t, 2, 0])
                ny = np.float32(b0 * normals[t, 0, 1] + b1 * normals[t, 1, 1] + b2 * normals[t, 2, 1])
                nz = np.float32(b0 * normals[t, 0, 2] + b1 * normals[t, 1, 2] + b2 * normals[t, 2, 2])
            length = np.sqrt(nx * nx + ny * ny + nz * nz)
            scale = 0.5 / length if length > 0 else 0.0
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = nx * scale + 0.5, ny * scale + 0.5, nz * scale + 0.5


@kernel(parallel=True)
def _decode(image: F32) -> None:
    height, width, _ = image.shape
    for y in prange(height):
        for x in range(width):
            nx, ny, nz = 2.0 * image[y, x, 0] - 1.0, 2.0 * image[y, x, 1] - 1.0, 2.0 * image[y, x, 2] - 1.0
            length = np.sqrt(nx * nx + ny * ny + nz * nz)
            scale = 1 / length if length > 0 else 0.0
            image[y, x, 0], image[y, x, 1], image[y, x, 2] = nx * scale, ny * scale, nz * scale
