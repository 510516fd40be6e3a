"""What gathering kernels share: the samples of a texel, and points of the sculpt that they struck."""

from collections.abc import Callable
from typing import Any

import numpy as np

from ..base.array_types import F32, I32
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.progress import Cancel, ShareDone
from ..base.records import Record, view
from ..base.threads import in_batches
from ..cast.hits import Hits
from ..mesh.normals import face_normal
from ..uv.rasterise import Grid, tile_box


def over_tiles(
    hits: Hits,
    grid: Grid,
    kernel: Callable[..., None],
    arguments: tuple[object, ...],
    progress: ShareDone,
    cancelled: Cancel,
    room: Callable[[], Record] | None = None,
) -> None:
    """Call a kernel with (first, last, hits, grid, *arguments), some tiles at a time; hits and grid are records.

    `room()` is a record that each call gets for itself, as its last argument.
    """
    records = hits.record, grid.record

    def work(first: int, last: int) -> None:
        kernel(first, last, *records, *arguments, *((room(),) if room else ()))

    in_batches(len(hits.tiles), work, progress, cancelled)


@kernel
def mean_of_corners(first: int, last: int, hits: Record, grid: Record, values: F32, corners: I32, out: F32) -> None:
    """The mean over a texel's hits of values (N, K) that lie at the corners (T, 3) of the sculpt's triangles."""
    tiles, triangle, side = tiles_of(hits), triangles_of(hits), grid.side
    for k in range(first, last):
        x0, y0, columns, rows = tile_box(tiles[k], grid)
        for y in range(rows):
            for x in range(columns):
                begin, stride = samples_of(k, x, y, columns, hits, grid)
                count = 0
                for j in range(side):
                    for i in range(side):
                        n = begin + j * stride + i
                        t = triangle[n]
                        if t < 0:
                            continue
                        b0, b1, b2 = weights_at(n, hits)
                        count += 1
                        for c in range(values.shape[1]):
                            out[y0 + y, x0 + x, c] += np.float32(
                                b0 * values[corners[t, 0], c]
                                + b1 * values[corners[t, 1], c]
                                + b2 * values[corners[t, 2], c]
                            )
                if count:
                    for c in range(values.shape[1]):
                        out[y0 + y, x0 + x, c] /= count


@kernel(inline="always")
def tiles_of(hits: Record) -> I32:
    """Its tiles (K,) int64."""
    return view(hits, "tiles")


@kernel(inline="always")
def triangles_of(hits: Record) -> I32:
    """What each sample struck, (N,) int32."""
    return view(hits, "triangle")


@kernel(inline="always")
def samples_of(k: int, x: int, y: int, columns: int, hits: Record, grid: Record) -> tuple[int, int]:
    """The first sample of texel (x, y) of the k-th tile, which is `columns` wide, and how far apart its rows lie."""
    stride = columns * grid.side
    return view(hits, "starts")[k] + y * grid.side * stride + x * grid.side, stride


@kernel(inline="always")
def weights_at(n: int, hits: Record) -> Vector:
    """Barycentrics of what sample n struck."""
    uv = view(hits, "uv")
    u, v = uv[n, 0] / 65535.0, uv[n, 1] / 65535.0
    return 1 - u - v, u, v


@kernel(inline="always")
def point_of(n: int, t: int, lift: float, hits: Record, sculpt: Record) -> Any:
    """The place that sample n struck on triangle t, lifted along its unit normal, and that normal; scene units."""
    b0, b1, b2 = weights_at(n, hits)
    positions = view(sculpt, "positions")
    row = view(sculpt, "triangles")[t]
    a, b, c = positions[row[0]], positions[row[1]], positions[row[2]]
    gx, gy, gz = face_normal(a, b, c)
    px = b0 * a[0] + b1 * b[0] + b2 * c[0] + lift * gx
    py = b0 * a[1] + b1 * b[1] + b2 * c[1] + lift * gy
    pz = b0 * a[2] + b1 * b[2] + b2 * c[2] + lift * gz
    return (px, py, pz), (gx, gy, gz)
