"""Padding: the nearest covered texel is copied outward (dilation)."""

import numpy as np

from ..base.array_types import F32, I32, U8
from ..base.kernels import kernel, prange


def nearest_covered(covered: U8, reach: int) -> I32:
    """For every texel the flat index of the nearest covered one no further than `reach` texels: (H, W) int32.

    Covered texels name themselves, texels out of reach -1. Exact Euclidean distance between centres; of equally near
    ones the topmost, then the leftmost. Source: A. Meijster et al., "A general algorithm for computing distance
    transforms in linear time", 2000.
    """
    height, width = covered.shape
    rows = np.empty((height, width), np.int32)
    _nearest_in_column(covered, rows, reach)
    out = np.empty((height, width), np.int32)
    _nearest_in_row(rows, out, reach)
    return out


@kernel(parallel=True)
def _nearest_in_column(covered: U8, rows: I32, reach: int) -> None:
    """The row of the nearest covered texel straight above or below, -1 for none within reach."""
    height, width = covered.shape
    block = 64
    for k in prange((width + block - 1) // block):
        first, last = k * block, min((k + 1) * block, width)
        for x in range(first, last):
            rows[0, x] = 0 if covered[0, x] else -1
        for y in range(1, height):
            for x in range(first, last):
                rows[y, x] = y if covered[y, x] else rows[y - 1, x]
        for y in range(height - 2, -1, -1):
            for x in range(first, last):
                below, above = rows[y + 1, x], rows[y, x]
                if below > y and (above < 0 or below - y < y - above):
                    rows[y, x] = below
        for y in range(height):
            for x in range(first, last):
                if rows[y, x] >= 0 and abs(rows[y, x] - y) > reach:
                    rows[y, x] = -1


@kernel(parallel=True)
def _nearest_in_row(rows: I32, out: I32, reach: int) -> None:
    """Lower envelope of the parabolas that the columns' distances make along each row."""
    height, width = rows.shape
    limit = np.int64(reach) * reach
    for y in prange(height):
        site = np.empty(width, np.int64)  # column of each parabola of the envelope
        start = np.empty(width, np.int64)  # first column where it is lowest
        top = -1
        for x in range(width):
            if rows[y, x] < 0:
                continue
            g = np.int64(rows[y, x] - y) ** 2
            while True:
                if top < 0:
                    top = 0
                    site[0], start[0] = x, 0
                    break
                s = site[top]
                gs = np.int64(rows[y, s] - y) ** 2
                # first column where the new parabola lies strictly lower
                border = (x * x - s * s + g - gs) // (2 * (x - s)) + 1
                if border <= start[top]:
                    top -= 1
                    continue
                if border < width:
                    top += 1
                    site[top], start[top] = x, border
                break
        k = top
        for x in range(width - 1, -1, -1):
            if top < 0:
                out[y, x] = -1
                continue
            while k > 0 and start[k] > x:
                k -= 1
            s = site[k]
            square = np.int64(x - s) ** 2 + np.int64(rows[y, s] - y) ** 2
            out[y, x] = rows[y, s] * width + s if square <= limit else -1


def pad(image: F32, source: I32) -> None:
    """Copy texels into the padding around islands, in place: `image (H, W, C)`, `source` of `nearest_covered`."""
    _copy_from(image.reshape(-1, image.shape[2]), source.reshape(-1))


@kernel(parallel=True)
def _copy_from(flat: F32, source: I32) -> None:
    for i in prange(len(source)):
        if source[i] >= 0 and source[i] != i:
            for k in range(flat.shape[1]):
                flat[i, k] = flat[source[i], k]
