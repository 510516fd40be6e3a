"""Directions for rays: spread as they should be, and the same wherever they are computed."""

import numba
import numpy as np
import pytest

from inkwell_cast.core.base.sampling_sequence import cosine_direction, points_of_texel, seed_of, square_point, turn


@numba.njit
def points(count, seed):
    out = np.empty((count, 2))
    for i in range(count):
        out[i] = square_point(i, np.uint32(seed))
    return out


@numba.njit
def directions(count, seed, widest, n):
    out = np.empty((count, 3))
    for i in range(count):
        u, v = square_point(i, np.uint32(seed))
        out[i] = cosine_direction(u, v, widest, n[0], n[1], n[2])
    return out


@numba.njit
def turns(shares):
    out = np.empty((len(shares), 2))
    for i in range(len(shares)):
        out[i] = turn(shares[i])
    return out


@numba.njit
def seeds(width, height):
    out = np.empty((height, width), np.uint32)
    for y in range(height):
        for x in range(width):
            out[y, x] = seed_of(x, y, 1)
    return out


@pytest.mark.parametrize("seed", [0, 1, 77, 4_000_000_000])
@pytest.mark.parametrize(("columns", "rows"), [(256, 1), (64, 4), (16, 16), (4, 64), (1, 256)])
def test_every_cell_of_every_even_division_holds_one_point(seed, columns, rows):
    """The first 256 points of a Sobol sequence are a (0, 8, 2)-net, and scrambling keeps that."""
    found = points(256, seed)
    cell = np.floor(found[:, 0] * columns) * rows + np.floor(found[:, 1] * rows)
    assert len(np.unique(cell)) == 256
    assert found.min() >= 0
    assert found.max() < 1


def test_seeds_differ_and_turn_the_points():
    assert len(np.unique(seeds(64, 64))) > 4090
    assert np.abs(points(16, 1) - points(16, 2)).max() > 0.1


@pytest.mark.parametrize("normal", [(0, 0, 1), (0, 0, -1), (1, 0, 0), (0.6, -0.48, 0.64)])
def test_directions_are_unit_and_cosine_weighted_about_any_normal(normal):
    n = np.array(normal, np.float64)
    found = directions(4096, 5, 1.0, n)
    np.testing.assert_allclose(np.linalg.norm(found, axis=1), 1, atol=1e-7)
    cosine = found @ n
    assert cosine.min() >= -1e-7
    assert cosine.mean() == pytest.approx(2 / 3, abs=1e-3)
    np.testing.assert_allclose(found.mean(axis=0), n * 2 / 3, atol=2e-3)
    assert directions(512, 5, np.sin(np.radians(20)), n) @ n == pytest.approx(1, abs=1 - np.cos(np.radians(20)) + 1e-6)


def test_a_turn_is_its_cosine_and_sine():
    shares = np.linspace(0, 1, 10_001)
    wanted = np.stack([np.cos(2 * np.pi * shares), np.sin(2 * np.pi * shares)], axis=1)
    np.testing.assert_allclose(turns(shares), wanted, atol=5e-8)


@numba.njit
def points_of_square(x0, y0, side, bits):
    out, n = np.empty((side * side << bits, 2)), 0
    for y in range(y0, y0 + side):
        for x in range(x0, x0 + side):
            first, seed = points_of_texel(x, y, 1, bits)
            for i in range(1 << bits):
                out[n] = square_point(first + i, seed)
                n += 1
    return out


@pytest.mark.parametrize(("x", "y"), [(0, 0), (4, 8), (252, 0), (256, 512)])
def test_a_square_of_texels_takes_well_spread_points_together(x, y):
    found = points_of_square(x, y, 4, 4)
    cell = np.floor(found[:, 0] * 16) * 16 + np.floor(found[:, 1] * 16)
    assert len(np.unique(cell)) == 256
