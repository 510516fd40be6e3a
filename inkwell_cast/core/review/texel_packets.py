"""Texels of the low by blocks of sixteen, so that rays from them can be traced in packets."""

import numpy as np

from ..base.array_types import F32, F64, I32, I64, U8, U64, AnyArray
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.records import Record, view
from ..cast.texel import barycentrics_at, triangle_at
from ..mesh.normals import face_normal
from ..rays.packet import WIDTH, hit_of, packet, trace
from ..rays.ray import point_on_low
from ..uv.rasterise import TILE

SIDE = 4  # texels of a block
BLOCKS = (TILE // SIDE) ** 2  # of a tile
X, Y, TRIANGLE, PAIR = range(4)
PLACE, ALONG, OUTWARD, FACE = range(4)


@kernel
def texels() -> tuple[I64, F64]:
    """Room for a block: (4, WIDTH) int64, rows X to PAIR, the triangle -1 where there is none; (4, 3, WIDTH) float64.

    The latter are the place on the low and unit vectors there: its shading normal, the averaged one, its face's.
    """
    return np.empty((4, WIDTH), np.int64), np.empty((4, 3, WIDTH))


@kernel
def room_for_rays() -> tuple[F32, F32, F32, tuple[F32, I32, I32]]:
    """Room for their rays: origins and ways (3, WIDTH) and reach (WIDTH,) float32, not above 0 for none; a packet."""
    return np.empty((3, WIDTH), np.float32), np.empty((3, WIDTH), np.float32), np.empty(WIDTH, np.float32), packet()


@kernel
def fill(
    number: int,
    box: tuple[int, int, int, int],
    low: Record,
    cast: Record,
    rays: Record,
    averaged: F32,
    open_to: U8,
    block_of: tuple[I64, F64],
) -> bool:
    """Fill block `number` of a tile, whose box is (x, y, columns, rows); whether any of its texels is on the low.

    low, cast and rays are records; averaged (T, 3, 3) float32 the averaged normals at the low's corners on the sheet;
    open_to (H, W) is 0 at texels that are left out.
    """
    at, vectors = block_of
    points = view(rays, "points")
    shading = view(low, "normals")
    pair, some, across = view(rays, "pair"), False, TILE // SIDE
    x0, y0 = box[0] + number % across * SIDE, box[1] + number // across * SIDE
    for n in range(WIDTH):
        x, y = x0 + n % SIDE, y0 + n // SIDE
        inside = x < box[0] + box[2] and y < box[1] + box[3] and open_to[y, x]
        t = np.int64(triangle_at(x, y, cast)) if inside else np.int64(-1)
        at[X, n], at[Y, n], at[TRIANGLE, n], at[PAIR, n] = x, y, t, -1
        if t < 0:
            continue
        some, at[PAIR, n] = True, pair[t]
        b0, b1, b2 = barycentrics_at(x, y, t, low, cast)
        _set(vectors, PLACE, n, point_on_low(t, b0, b1, b2, rays))
        _set(vectors, ALONG, n, _between(b0, b1, b2, shading[t]))
        _set(vectors, OUTWARD, n, _between(b0, b1, b2, averaged[t]))
        _set(vectors, FACE, n, face_normal(points[t, 0], points[t, 1], points[t, 2]))
    return some


@kernel
def strike(
    tracers: U64, at: I64, ready: tuple[F32, F32, F32, tuple[F32, I32, I32]], found: F64, triangles: I64
) -> None:
    """First hits of the rays of a block, each in the scene of its pair: found (3, WIDTH) are length, u and v.

    And triangles (WIDTH,), -1 for none; tracers (P, 2) are a row a pair, ready of `room_for_rays`.
    """
    origins, ways, reach, hits = ready
    lengths = np.empty(WIDTH, np.float32)
    triangles[:] = -1
    least = most = at[PAIR, 0]
    for n in range(1, WIDTH):
        least, most = min(least, at[PAIR, n]), max(most, at[PAIR, n])
    for pair in range(max(least, 0), most + 1):
        some = False
        for n in range(WIDTH):
            lengths[n] = reach[n] if at[PAIR, n] == pair else np.float32(-1)
            some |= lengths[n] > 0
        if some:
            trace(tracers[pair, 0], tracers[pair, 1], hits, origins, ways, lengths)
        for n in range(WIDTH):
            if some and lengths[n] > 0:
                found[0, n], found[1, n], found[2, n], triangles[n] = hit_of(n, hits)


@kernel(inline="always")
def dot(a: Vector, b: Vector) -> float:
    """The scalar product of two vectors."""
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@kernel(inline="always")
def vector(vectors: AnyArray, row: int, n: int) -> Vector:
    """One of the vectors of a block."""
    return vectors[row, 0, n], vectors[row, 1, n], vectors[row, 2, n]


@kernel(inline="always")
def _set(vectors: AnyArray, row: int, n: int, values: Vector) -> None:
    vectors[row, 0, n], vectors[row, 1, n], vectors[row, 2, n] = values


@kernel
def _between(b0: float, b1: float, b2: float, n: F32) -> Vector:
    """Vectors n (3, 3) at the corners of a triangle, between them; of unit length."""
    x, y = b0 * n[0, 0] + b1 * n[1, 0] + b2 * n[2, 0], b0 * n[0, 1] + b1 * n[1, 1] + b2 * n[2, 1]
    z = b0 * n[0, 2] + b1 * n[1, 2] + b2 * n[2, 2]
    length = max(np.sqrt(x * x + y * y + z * z), 1e-30)
    return x / length, y / length, z / length
