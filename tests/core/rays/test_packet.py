"""Packets: sixteen parallel rays strike what each would strike alone."""

import numba
import numpy as np
import pytest

from inkwell_cast.core.rays.embree import Scene, Vertices, as_packet_tracers, first_hit, tracers_of
from inkwell_cast.core.rays.packet import WIDTH, hit_of, packet, trace


@numba.njit
def both_ways(packets, tracers, origins, way, length):
    """Hits of a packet and of single rays, (WIDTH, 4) each: t, u, v, triangle."""
    rays, together, alone = packet(), np.empty((WIDTH, 4)), np.empty((WIDTH, 4))
    trace(packets[0, 0], packets[0, 1], rays, origins, way, length)
    for k in range(WIDTH):
        t, u, v, hit = hit_of(k, rays)
        together[k, 0], together[k, 1], together[k, 2], together[k, 3] = t, u, v, hit
        x, y, z = origins[0, k], origins[1, k], origins[2, k]
        t, u, v, hit = first_hit(tracers, 0, x, y, z, way[0], way[1], way[2], length)
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
        together, alone = both_ways(as_packet_tracers(tracers), tracers, origins, tuple(way), 6.0)
        hit = alone[:, 3] >= 0
        np.testing.assert_array_equal(together[:, 3], alone[:, 3])
        np.testing.assert_allclose(together[hit], alone[hit], atol=1e-5)
        struck, missed = struck + hit.sum(), missed + (~hit).sum()
    assert struck > 50
    assert missed > 50
