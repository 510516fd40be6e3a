"""Well-spread directions for rays, cosine-weighted: the same for the same texel, whatever the threads and tiles."""

import numpy as np

from .kernel_types import Vector, Whole
from .kernels import kernel


@kernel(inline="always")
def hashed(x: Whole) -> Whole:
    """A 32-bit number scrambled: C. Wellons, "lowbias32" (2018)."""
    x = np.uint32(x)
    x = np.uint32(x ^ (x >> np.uint32(16))) * np.uint32(0x7FEB352D)
    x = np.uint32(x ^ (x >> np.uint32(15))) * np.uint32(0x846CA68B)
    return np.uint32(x ^ (x >> np.uint32(16)))


@kernel(inline="always")
def _reversed_bits(x: Whole) -> Whole:
    x = np.uint32(((x >> np.uint32(1)) & np.uint32(0x55555555)) | ((x & np.uint32(0x55555555)) << np.uint32(1)))
    x = np.uint32(((x >> np.uint32(2)) & np.uint32(0x33333333)) | ((x & np.uint32(0x33333333)) << np.uint32(2)))
    x = np.uint32(((x >> np.uint32(4)) & np.uint32(0x0F0F0F0F)) | ((x & np.uint32(0x0F0F0F0F)) << np.uint32(4)))
    x = np.uint32(((x >> np.uint32(8)) & np.uint32(0x00FF00FF)) | ((x & np.uint32(0x00FF00FF)) << np.uint32(8)))
    return np.uint32((x >> np.uint32(16)) | (x << np.uint32(16)))


@kernel(inline="always")
def _scrambled(x: Whole, seed: Whole) -> Whole:
    """Nested uniform scrambling of a number whose bits stand in reverse; gives them the right way round.

    B. Burley, "Practical Hash-based Owen Scrambling", JCGT 9(4), 2020, with the constants of N. Vegdahl.
    """
    x = np.uint32(x ^ np.uint32(x * np.uint32(0x3D20ADEA)))
    x = np.uint32(x + seed)
    x = np.uint32(x * np.uint32((seed >> np.uint32(16)) | np.uint32(1)))
    x = np.uint32(x ^ np.uint32(x * np.uint32(0x05526C56)))
    x = np.uint32(x ^ np.uint32(x * np.uint32(0x53A22864)))
    return _reversed_bits(x)


@kernel(inline="always")
def square_point(index: int, seed: int) -> tuple[float, float]:
    """Point `index` of the first two dimensions of a Sobol sequence, Owen-scrambled by a seed; each from 0 to 1.

    In reverse the first dimension is the index itself. The second is the index taken as a polynomial over GF(2) at
    x + 1, since its columns are the powers of x + 1; as (x + 1)^(2^k) = x^(2^k) + 1, halves are added to each other.
    """
    y = np.uint32(index)
    y ^= np.uint32(y >> np.uint32(16))
    y ^= np.uint32((y & np.uint32(0xFF00FF00)) >> np.uint32(8))
    y ^= np.uint32((y & np.uint32(0xF0F0F0F0)) >> np.uint32(4))
    y ^= np.uint32((y & np.uint32(0xCCCCCCCC)) >> np.uint32(2))
    y ^= np.uint32((y & np.uint32(0xAAAAAAAA)) >> np.uint32(1))
    x = _scrambled(np.uint32(index), np.uint32(seed ^ np.uint32(0x9E3779B9)))
    y = _scrambled(y, hashed(seed))
    return x * 2.3283064365386963e-10, y * 2.3283064365386963e-10


@kernel(inline="always")
def further_point(index: int, seed: int, pair: int) -> tuple[float, float]:
    """A point of a further pair of sample dimensions, from 1 on, which is independent of the others.

    Scrambling alone would leave all pairs in step; the order of the points is shuffled too, block by block of powers of
    two, so that they stay well spread: B. Burley, "Practical Hash-based Owen Scrambling", JCGT 9(4), 2020.
    """
    own = hashed(seed ^ hashed(np.uint32(pair)))
    return square_point(_scrambled(_reversed_bits(np.uint32(index)), own), hashed(own ^ np.uint32(0x68E31DA4)))


@kernel(inline="always")
def points_of_texel(x: int, y: int, salt: int, bits: int) -> tuple[Whole, Whole]:
    """The first point that a texel takes, 2^bits in all, and the seed.

    Neighbours take consecutive parts of one sequence, in the order of a Z-curve over blocks of 256 texels, so that a
    square of them holds a well-spread set too and their errors cancel when they are averaged: A. Ahmed and P. Wonka,
    "Screen-Space Blue-Noise Diffusion of Monte Carlo Sampling Error via Hierarchical Ordering of Pixels", 2020.
    """
    place = np.uint32(_spread_bits(x & 255) | (_spread_bits(y & 255) << 1))
    return np.int64(place << np.uint32(bits)), seed_of(x >> 8, y >> 8, salt)


@kernel(inline="always")
def _spread_bits(x: Whole) -> Whole:
    """Eight bits with a gap after each."""
    x = (x | (x << 4)) & 0x0F0F
    x = (x | (x << 2)) & 0x3333
    return (x | (x << 1)) & 0x5555


@kernel(inline="always")
def turn(share: float) -> tuple[float, float]:
    """Cosine and sine of a share of a whole turn, to 3e-8: Taylor's series over an eighth to either side."""
    quarter = np.floor(4 * share + 0.5)
    x = 2 * np.pi * (share - quarter / 4)
    q, xx = np.int64(quarter) & 3, x * x
    c = 1 - xx * (1 / 2 - xx * (1 / 24 - xx * (1 / 720 - xx / 40320)))
    s = x * (1 - xx * (1 / 6 - xx * (1 / 120 - xx * (1 / 5040 - xx / 362880))))
    if q & 1:
        c, s = -s, c
    return (-c, -s) if q & 2 else (c, s)


@kernel(inline="always")
def frame_about(nx: float, ny: float, nz: float) -> tuple[float, float, float, float, float, float]:
    """Two unit vectors (3 numbers each) that are at right angles to the unit normal n and to each other.

    T. Duff et al., "Building an Orthonormal Basis, Revisited", JCGT 6(1), 2017.
    """
    sign = 1.0 if nz >= 0 else -1.0
    p = -1 / (sign + nz)
    q = nx * ny * p
    return 1 + sign * nx * nx * p, sign * q, -sign * nx, q, sign + ny * ny * p, -ny


@kernel(inline="always")
def cosine_point(u: float, v: float, widest: float) -> Vector:
    """A unit vector about z, cosine-weighted, at most asin(`widest`) away from it."""
    r, (c, s) = widest * np.sqrt(u), turn(v)
    return r * c, r * s, np.sqrt(max(0.0, 1 - r * r))


@kernel(inline="always")
def cosine_direction(u: float, v: float, widest: float, nx: float, ny: float, nz: float) -> Vector:
    """A unit vector about the unit normal n, cosine-weighted, at most asin(`widest`) away from it."""
    x, y, z = cosine_point(u, v, widest)
    ax, ay, az, bx, by, bz = frame_about(nx, ny, nz)
    return x * ax + y * bx + z * nx, x * ay + y * by + z * ny, x * az + y * bz + z * nz


@kernel(inline="always")
def sphere_point(u: float, v: float) -> Vector:
    """A unit vector, evenly spread over all ways: Archimedes' hat-box."""
    z, (c, s) = 1 - 2 * u, turn(v)
    r = np.sqrt(max(0.0, 1 - z * z))
    return r * c, r * s, z


@kernel(inline="always")
def seed_of(x: int, y: int, salt: int) -> int:
    """A seed for a block of texels."""
    return hashed(np.uint32(x) ^ hashed(np.uint32(y) ^ hashed(np.uint32(salt))))
