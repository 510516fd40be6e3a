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
    """Nested uniform scrambling of bits from the highest down.

    B. Burley, "Practical Hash-based Owen Scrambling", JCGT 9(4), 2020, with the constants of N. Vegdahl.
    """
    x = _reversed_bits(x)
    x = np.uint32(x ^ np.uint32(x * np.uint32(0x3D20ADEA)))
    x = np.uint32(x + seed)
    x = np.uint32(x * np.uint32((seed >> np.uint32(16)) | np.uint32(1)))
    x = np.uint32(x ^ np.uint32(x * np.uint32(0x05526C56)))
    x = np.uint32(x ^ np.uint32(x * np.uint32(0x53A22864)))
    return _reversed_bits(x)


@numba.njit(cache=True, nogil=True, inline="always")
def square_point(index, seed):  # type: ignore[no-untyped-def]
    """Point `index` of the first two dimensions of a Sobol sequence, Owen-scrambled by a seed; each from 0 to 1."""
    index = _scrambled(np.uint32(index), seed)
    x, y, bit, v = np.uint32(0), np.uint32(0), np.uint32(0x80000000), np.uint32(0x80000000)
    while index:
        if index & np.uint32(1):
            x ^= bit
            y ^= v
        index = np.uint32(index >> np.uint32(1))
        bit = np.uint32(bit >> np.uint32(1))
        v = np.uint32(v ^ (v >> np.uint32(1)))
    x = _scrambled(x, hashed(seed ^ np.uint32(0x9E3779B9)))
    y = _scrambled(y, hashed(seed ^ np.uint32(0x85EBCA6B)))
    return x * 2.3283064365386963e-10, y * 2.3283064365386963e-10


@numba.njit(cache=True, nogil=True, inline="always")
def cosine_direction(u, v, widest, nx, ny, nz):  # type: ignore[no-untyped-def]
    """A unit direction about the unit normal n, cosine-weighted, at most asin(`widest`) away from it.

    The frame about n: T. Duff et al., "Building an Orthonormal Basis, Revisited", JCGT 6(1), 2017.
    """
    r, a = widest * np.sqrt(u), 2 * np.pi * v
    x, y, z = r * np.cos(a), r * np.sin(a), np.sqrt(max(0.0, 1 - r * r))
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
