"""What gathering kernels share: the place of a tile, and points of the sculpt at its hits."""

from collections.abc import Callable

import numba
import numpy as np

from ..base.threads import in_batches
from ..cast.hits import Hits
from ..uv.rasterise import TILE, Grid

Progress = Callable[[float], None]
Cancel = Callable[[], bool]


def over_tiles(
    hits: Hits, grid: Grid, kernel: Callable[..., None], arguments: tuple[object, ...],
    progress: Progress, cancelled: Cancel,
) -> None:  # fmt: skip
    """Call a kernel with (tiles, starts, triangle, uv, across, width, height, side, *arguments), piece by piece."""

    def work(first: int, last: int) -> None:
        kernel(
            hits.tiles[first:last], hits.starts[first : last + 1], hits.triangle, hits.uv,
            grid.tiles_across, grid.width, grid.height, grid.side, *arguments,
        )  # fmt: skip

    in_batches(len(hits.tiles), work, progress, cancelled)


@numba.njit(cache=True, nogil=True, inline="always")
def tile_box(tile, across, width, height):  # type: ignore[no-untyped-def]
    """First column, first row, columns and rows of a tile, in texels."""
    x, y = (tile % across) * TILE, (tile // across) * TILE
    return x, y, min(TILE, width - x), min(TILE, height - y)


@numba.njit(cache=True, nogil=True, inline="always")
def weights_at(uv, n):  # type: ignore[no-untyped-def]
    """Barycentrics of a sample's hit."""
    u, v = uv[n, 0] / 65535.0, uv[n, 1] / 65535.0
    return 1 - u - v, u, v


@numba.njit(cache=True, nogil=True)
def mean_of_corners(tiles, starts, triangle, uv, across, width, height, side, values, corners, out):  # type: ignore[no-untyped-def]
    """The mean over a texel's hits of values (N, K) that lie at the corners (T, 3) of the sculpt's triangles."""
    for k in range(len(tiles)):
        x0, y0, columns, rows = tile_box(tiles[k], across, width, height)
        for y in range(rows):
            for x in range(columns):
                count = 0
                for j in range(side):
                    for i in range(side):
                        n = starts[k] + (y * side + j) * columns * side + x * side + i
                        t = triangle[n]
                        if t < 0:
                            continue
                        b0, b1, b2 = weights_at(uv, n)
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


@numba.njit(cache=True, nogil=True, inline="always")
def hits_in(first, stride, side, triangle):  # type: ignore[no-untyped-def]
    """How many samples of a texel struck; its first lies at `first`, rows of samples are `stride` apart."""
    count = 0
    for j in range(side):
        for i in range(side):
            count += triangle[first + j * stride + i] >= 0
    return count


@numba.njit(cache=True, nogil=True, inline="always")
def point_of(n, t, uv, positions, triangles, lift):  # type: ignore[no-untyped-def]
    """The place of hit n on triangle t, lifted along its unit normal, that normal, and the last two barycentrics."""
    b0, b1, b2 = weights_at(uv, n)
    a, b, c = positions[triangles[t, 0]], positions[triangles[t, 1]], positions[triangles[t, 2]]
    gx, gy, gz = face_normal(a, b, c)
    px = b0 * a[0] + b1 * b[0] + b2 * c[0] + lift * gx
    py = b0 * a[1] + b1 * b[1] + b2 * c[1] + lift * gy
    pz = b0 * a[2] + b1 * b[2] + b2 * c[2] + lift * gz
    return px, py, pz, gx, gy, gz, b1, b2


@numba.njit(cache=True, nogil=True, inline="always")
def face_normal(a, b, c):  # type: ignore[no-untyped-def]
    """Unit geometric normal of a triangle."""
    ux, uy, uz = np.float64(b[0] - a[0]), np.float64(b[1] - a[1]), np.float64(b[2] - a[2])
    vx, vy, vz = np.float64(c[0] - a[0]), np.float64(c[1] - a[1]), np.float64(c[2] - a[2])
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    length = np.sqrt(nx * nx + ny * ny + nz * nz)
    scale = 1 / length if length > 0 else 0.0
    return nx * scale, ny * scale, nz * scale
