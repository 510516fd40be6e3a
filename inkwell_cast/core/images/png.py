"""PNG with 8 or 16 bits a channel.

Values from 0 to 1 are stored as round(value * (2^bits - 1)), so that reading gives back the nearest step.
"""

import pathlib
from typing import cast

import numpy as np

from ..base.array_types import F32, U8, U16, AnyArray
from ..base.errors import InputProblem
from ..base.kernels import kernel, prange
from ..base.on_demand import library
from ..base.sampling_sequence import points_of_texel, square_point

cv2 = library("cv2")


def quantise(image: F32, depth: int, dither: bool = False, out: U8 | U16 | None = None) -> U8 | U16:
    """Values 0 to 1 of `image (H, W, C)` as whole steps of an 8 or 16 bit picture, in `out` if that is given.

    With `dither` each is rounded up or down as often as it is near, so evenly spread that a square of texels has their
    mean: see `base.sampling_sequence.points_of_texel`.
    """
    if out is None:
        out = np.empty(image.shape, np.uint8 if depth == 8 else np.uint16)
    if dither:
        _dithered(image, out, 2**depth - 1)
    else:
        _quantise(image.reshape(-1), out.reshape(-1), 2**depth - 1)
    return out


@kernel(parallel=True)
def _quantise(values: F32, out: AnyArray, top: int) -> None:
    for i in prange(len(values)):
        out[i] = int(min(max(values[i], 0.0), 1.0) * top + 0.5)


@kernel(parallel=True)
def _dithered(image: F32, out: U8, top: int) -> None:
    height, width, channels = image.shape
    for y in prange(height):
        for x in range(width):
            for c in range(channels):
                place, seed = points_of_texel(x, y, 100 + c, 0)
                share = square_point(place, seed)[0]
                out[y, x, c] = int(min(max(image[y, x, c], 0.0), 1.0) * top + share)


def dequantise(steps: U8 | U16 | F32) -> F32:
    """Whole steps as values from 0 to 1: float32. Floats pass through."""
    if steps.dtype == np.float32:
        return cast(F32, steps)
    out = steps.astype(np.float32)
    out /= 255 if steps.dtype == np.uint8 else 65535
    return out


def write(path: pathlib.Path, steps: U8 | U16) -> None:
    """Write `steps (H, W, 3 or 4)` in RGB or RGBA order, or (H, W, 1) grey.

    Raises OSError where the file cannot be written.
    """
    fast = [cv2.IMWRITE_PNG_COMPRESSION, 1, cv2.IMWRITE_PNG_STRATEGY, cv2.IMWRITE_PNG_STRATEGY_RLE]
    order = {3: cv2.COLOR_RGB2BGR, 4: cv2.COLOR_RGBA2BGRA}.get(steps.shape[2])
    done, data = cv2.imencode(".png", steps if order is None else cv2.cvtColor(steps, order), fast)
    if not done:
        raise InputProblem(path.name, "The picture could not be encoded.", "Try another size or depth.")
    data.tofile(path)


def read(path: pathlib.Path) -> U8 | U16:
    """Read a picture as (H, W, 3) in RGB order with the depth of the file; grey stands in all three."""
    try:
        data = np.fromfile(path, np.uint8)
    except OSError as error:
        raise InputProblem(path.name, f"The file cannot be read ({error}).", "Check its path and rights.") from error
    steps = cv2.imdecode(data, cv2.IMREAD_COLOR | cv2.IMREAD_ANYDEPTH) if len(data) else None
    if steps is None:
        raise InputProblem(path.name, "This is not a PNG that can be read.", "Export it again as PNG.")
    return cast(U8 | U16, np.ascontiguousarray(steps[..., ::-1]))
