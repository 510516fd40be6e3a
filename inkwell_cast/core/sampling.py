"""Well-spread directions for rays: the same for the same texel, whatever the threads and tiles."""

import numba
import numpy as np


@numba.njit(cache=True, nogil=True, inline="always")
def hashed(x):  # type: ignore[no-untyped-def]
    """A 32-bit number scrambled: C. Wellons, "lowbias32" (2018)."""
    x = np.uint32(x)
    x = np.uint32(x ^ (x >> np.uint32(16))) * np.uint32(0x7FEB352D)
    x = np.uint32(x ^ (x >> np.uint32(15))) * np.uint32(0x846CA68B)
    return np.uint32(x ^ (x >> np.uint32(16)))


@numba.njit(cache=True, nogil=True, inline="always")
def _reversed_bits(x):  # type: ignore[no-untyped-def]
    x = np.uint32(((x >> np.uint32(1)) & np.uint32(0x55555555)) | ((x & np.uint32(0x55555555)) << np.uint32(1)))
    x = np.uint32(((x >> np.uint32(2)) & np.uint32(0x33333333)) | ((x & np.uint32(0x33333333)) << np.uint32(2)))
    x = np.uint32(((x >> np.uint32(4)) & np.uint32(0x0F0F0F0F)) | ((x & np.uint32(0x0F0F0F0F)) << np.uint32(4)))
    x = np.uint32(((x >> np.uint32(8)) & np.uint32(0x00FF00FF)) | ((x & np.uint32(0x00FF00FF)) << np.uint32(8)))
    return np.uint32((x >> np.uint32(16)) | (x << np.uint32(16)))


@numba.njit(cache=True, nogil=True, inline="always")
def _scrambled(x, seed):  # type: ignore[no-untyped-def]
    """Nested uniform scrambling of a number whose bits stand in reverse; gives them the right way round.

    B. Burley, "Practical Hash-based Owen Scrambling", JCGT 9(4), 2020, with the constants of N. Vegdahl.
    """
    x = np.uint32(x ^ np.uint32(x * np.uint32(0x3D20ADEA)))
    x = np.uint32(x + seed)
    x = np.uint32(x * np.uint32((seed >> np.uint32(16)) | np.uint32(1)))
    x = np.uint32(x ^ np.uint32(x * np.uint32(0x05526C56)))
    x = np.uint32(x ^ np.uint32(x * np.uint32(0x53A22864)))
    return _reversed_bits(x)


@numba.njit(cache=True, nogil=True, inline="always")
def square_point(index, seed):  # type: ignore[no-untyped-def]
    """Point `index` of the first two dimensions of a Sobol sequence, Owen-scrambled by a seed; each from 0 to 1.

    In reverse the first dimension is the index itself; the second is built of columns c_k+1 = c_k ^ 2 c_k.
    """
    left, y, column = np.uint32(index), np.uint32(0), np.uint32(1)
    while left:
        if left & np.uint32(1):
            y ^= column
        left = np.uint32(left >> np.uint32(1))
        column = np.uint32(column ^ (column << np.uint32(1)))
    x = _scrambled(np.uint32(index), np.uint32(seed ^ np.uint32(0x9E3779B9)))
    y = _scrambled(y, hashed(seed))
    return x * 2.3283064365386963e-10, y * 2.3283064365386963e-10


@numba.njit(cache=True, nogil=True, inline="always")
def turn(share):  # type: ignore[no-untyped-def]
    """Cosine and sine of a share of a whole turn, to 3e-8: Taylor's series over an eighth to either side."""
    quarter = np.floor(4 * share + 0.5)
    x = 2 * np.pi * (share - quarter / 4)
    q, xx = np.int64(quarter) & 3, x * x
    c = 1 - xx * (1 / 2 - xx * (1 / 24 - xx * (1 / 720 - xx / 40320)))
    s = x * (1 - xx * (1 / 6 - xx * (1 / 120 - xx * (1 / 5040 - xx / 362880))))
    if q & 1:
        c, s = -s, c
    return (-c, -s) if q & 2 else (c, s)


@numba.njit(cache=True, nogil=True, inline="always")
def cosine_direction(u, v, widest, nx, ny, nz):  # type: ignore[no-untyped-def]
    """A unit direction about the unit normal n, cosine-weighted, at most asin(`widest`) away from it.

    The frame about n: T. Duff et al., "Building an Orthonormal Basis, Revisited", JCGT 6(1), 2017.
    """
    r, (c, s) = widest * np.sqrt(u), turn(v)
    x, y, z = r * c, r * s, np.sqrt(max(0.0, 1 - r * r))
    sign = 1.0 if nz >= 0 else -1.0
    p = -1 / (sign + nz)
    q = nx * ny * p
    return (
        x * (1 + sign * nx * nx * p) + y * q + z * nx,
        x * sign * q + y * (sign + ny * ny * p) + z * ny,
        -x * sign * nx - y * ny + z * nz,
    )


@numba.njit(cache=True, nogil=True, inline="always")
def seed_of(x, y, salt):  # type: ignore[no-untyped-def]
    """A seed for a texel."""
    return hashed(np.uint32(x) ^ hashed(np.uint32(y) ^ hashed(np.uint32(salt))))
