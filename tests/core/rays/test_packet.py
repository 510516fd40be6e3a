"""Packets: sixteen parallel rays strike what each would strike alone."""

import numba
import numpy as np
import pytest

from inkwell_cast.core.rays.embree import Scene, Vertices, blocked, hit_along, tracers_of
from inkwell_cast.core.rays.packet import WIDTH, hit_of, packet, trace

from ...shapes import torus


@numba.njit
def both_ways(tracers, origins, way, length):
    """Hits of a packet and of single rays, (WIDTH, 4) each: t, u, v, triangle."""
    rays, together, alone = packet(), np.empty((WIDTH, 4)), np.empty((WIDTH, 4))
    trace(tracers[0, 0], tracers[0, 1], rays, origins, way, length)
    for k in range(WIDTH):
        t, u, v, hit = hit_of(k, rays)
        together[k, 0], together[k, 1], together[k, 2], together[k, 3] = t, u, v, hit
        x, y, z = origins[0, k], origins[1, k], origins[2, k]
        t, u, v, hit = hit_along(tracers[0, 0], tracers[0, 1], x, y, z, way[0], way[1], way[2], length)
        alone[k, 0], alone[k, 1], alone[k, 2], alone[k, 3] = t, u, v, hit
    return together, alone


@pytest.mark.parametrize("both_sides", [False, True])
def test_a_packet_strikes_what_its_rays_would_strike_alone(both_sides):
    random = np.random.default_rng(3)
    points = random.uniform(-1, 1, (600, 3)).astype(np.float32)
    scene = Scene(Vertices(points), np.arange(600, dtype=np.int32).reshape(-1, 3), both_sides)
    tracers = tracers_of([scene])
    struck = missed = 0
    for _ in range(20):
        way = random.normal(size=3)
        way /= np.linalg.norm(way)
        origins = (random.uniform(-1.5, 1.5, (3, WIDTH)) - 3 * way[:, None]).astype(np.float32)
        together, alone = both_ways(tracers, origins, tuple(way), 6.0)
        hit = alone[:, 3] >= 0
        np.testing.assert_array_equal(together[:, 3], alone[:, 3])
        np.testing.assert_allclose(together[hit], alone[hit], atol=1e-5)
        struck, missed = struck + hit.sum(), missed + (~hit).sum()
    assert struck > 50
    assert missed > 50


@numba.njit
def struck_both_ways(tracers, origins, ways, lengths):
    """Triangles that a packet's rays and the same rays alone strike, (WIDTH,) each."""
    rays, together, alone = packet(), np.empty(WIDTH, np.int64), np.empty(WIDTH, np.int64)
    trace(tracers[0, 0], tracers[0, 1], rays, origins, ways, lengths)
    for k in range(WIDTH):
        together[k] = hit_of(k, rays)[3]
        o, d = origins[:, k], ways[:, k]
        alone[k] = hit_along(tracers[0, 0], tracers[0, 1], o[0], o[1], o[2], d[0], d[1], d[2], lengths[k])[3]
    return together, alone


@pytest.mark.parametrize("exponent", [-38, -19, -18, -17, -12, -9, -6])
def test_ways_that_hardly_lean_lose_no_ray(exponent):
    ring = torus(120, 60)
    tracers = tracers_of([Scene(Vertices(ring.positions), ring.triangles)])
    lean = np.linspace(-27, 27, WIDTH) * 10.0**exponent  # to either side of an axis
    tilt = np.repeat([0.169, 0.12, 0.071, 0.024], 4)
    ways = np.stack([lean, tilt, np.sqrt(1 - tilt**2)])
    places = np.stack([np.tile(np.linspace(-0.34, -0.05, 4), 4), -2 - 0.5 * tilt, np.full(WIDTH, -0.7)])
    origins = (places - 0.14 * ways).astype(np.float32)
    together, alone = struck_both_ways(tracers, origins, ways.astype(np.float32), np.full(WIDTH, 0.4, np.float32))
    assert (alone >= 0).all()
    np.testing.assert_array_equal(together, alone)


def test_a_packet_passes_what_it_sees_from_behind():
    walls = [(0.2, True), (0.4, False), (0.6, True)]  # heights, and whether they look up; rays come from above
    points = np.concatenate([[[-9, -9, z], [9, -9, z], [0, 9, z]] for z, _ in walls]).astype(np.float32)
    rows = [[3 * n, 3 * n + 1, 3 * n + 2] if up else [3 * n, 3 * n + 2, 3 * n + 1] for n, (_, up) in enumerate(walls)]
    tracers = tracers_of([Scene(Vertices(points), np.array(rows, np.int32))])
    height = np.where(np.arange(WIDTH) % 2, 0.5, 1.0)
    origins = np.stack([np.linspace(-1, 1, WIDTH), np.zeros(WIDTH), height]).astype(np.float32)
    ways = np.tile(np.float32([[0], [0], [-1]]), WIDTH)
    together, alone = struck_both_ways(tracers, origins, ways, np.full(WIDTH, 2, np.float32))
    np.testing.assert_array_equal(together, np.where(np.arange(WIDTH) % 2, 0, 2))  # from 0.5 through the back at 0.4
    np.testing.assert_array_equal(together, alone)


@numba.njit
def slipped(tracers, others, origins, ways):
    """Of rays (N, 3) that something blocks in the first scene, how many nothing blocks in the second; and how many are."""
    lost = count = 0
    for k in range(len(origins)):
        o, d = origins[k], ways[k]
        if blocked(tracers[0, 0], tracers[0, 1], o[0], o[1], o[2], d[0], d[1], d[2], 1e30):
            count += 1
            lost += not blocked(others[0, 0], others[0, 1], o[0], o[1], o[2], d[0], d[1], d[2], 1e30)
    return lost, count


def test_scenes_that_only_shade_lose_next_to_no_ray_and_watertight_ones_none_at_edges():
    ring, random = torus(200, 100), np.random.default_rng(5)
    tight, fast = (
        tracers_of([Scene(Vertices(ring.positions), ring.triangles, True, watertight=w)]) for w in (True, False)
    )
    ways = random.normal(size=(300_000, 3))
    ways /= np.linalg.norm(ways, axis=1, keepdims=True)
    t, share = random.integers(0, len(ring.triangles), len(ways)), random.random((len(ways), 1))
    a, b, c = (ring.positions[ring.triangles[t, k]].astype(np.float64) for k in range(3))
    anywhere, on_edges = (
        a + (b - a) * share + (c - a) * (1 - share) * random.random((len(ways), 1)),
        a + (b - a) * share,
    )
    lost, count = slipped(tight, fast, (anywhere - 3 * ways).astype(np.float32), ways.astype(np.float32))
    assert count > 290_000
    assert lost <= 3
    face = np.cross(b - a, c - a)
    steep = np.abs((face * ways).sum(axis=1)) > 0.4 * np.linalg.norm(face, axis=1)  # others may pass by the outline
    origins = (on_edges - 3 * ways).astype(np.float32)[steep]
    ways = on_edges[steep] - origins
    ways = (ways / np.linalg.norm(ways, axis=1, keepdims=True)).astype(np.float32)
    lost, count = slipped(tight, tight, origins, ways)
    assert (lost, count) == (0, len(ways))
