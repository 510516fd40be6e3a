"""Patches grow along the surface: distances of closed forms, and what only lies near is not in them."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.mesh.mesh import corner_positions, merge
from inkwell_cast.core.mesh.surface_samples import spread_over
from inkwell_cast.core.rays.along_surface import Ground, spread_of

from ...shapes import cube, grid_mesh, plane, torus


def sampled(mesh, count=3000):
    """Places spread over a mesh, and the triangle of each."""
    places, rows, _ = spread_over(corner_positions(mesh).astype(float), np.arange(len(mesh.triangles)), count)
    return places, rows


@pytest.mark.parametrize("low", [plane(1), plane(7), replace(plane(7), triangles=plane(7).triangles[::-1].copy())])
def test_on_a_plane_they_are_those_of_the_plane(low):
    places, rows = sampled(low)
    patch = Ground(low).around((0.37, 0.61, 0.02), 0.3)
    distance = patch.distance(rows, places)
    away = np.linalg.norm(places - (0.37, 0.61, 0), axis=1)
    np.testing.assert_allclose(distance[away < 0.3], away[away < 0.3], atol=1e-6)
    assert (distance[away > 0.3] > 0.3 - 1e-6).all()
    np.testing.assert_allclose(patch.middle, (0.37, 0.61, 0), atol=1e-7)


def test_around_an_edge_of_a_cube_they_are_those_of_its_faces_laid_flat():
    low = cube(2.0)
    places, rows = sampled(low, 6000)
    distance = Ground(low).around((0.8, 0.1, 1.0), 0.9).distance(rows, places)
    top, side = places[:, 2] > 0.999, places[:, 0] > 0.999
    flat = np.where(top[:, None], places[:, :2], np.stack([2 - places[:, 2], places[:, 1]], axis=1))
    away = np.linalg.norm(flat - (0.8, 0.1), axis=1)
    held = (top | side) & (away < 0.85)
    assert side[held].sum() > 50
    np.testing.assert_allclose(distance[held], away[held], atol=1e-5)
    assert (distance[places[:, 0] < -0.999] > 1.0).all()


@pytest.mark.parametrize("cells", [24, 48])
def test_on_a_cylinder_and_a_sphere_they_near_the_lengths_of_arcs(cells):
    def around(u, v):
        return -np.cos(2 * np.pi * u), -np.sin(2 * np.pi * u), 3 * v  # its seam lies opposite

    def ball(u, v):
        return (
            np.cos(2 * np.pi * u) * np.sin(np.pi * v),
            np.sin(2 * np.pi * u) * np.sin(np.pi * v),
            -np.cos(np.pi * v),
        )

    places, rows = sampled(tube := grid_mesh(cells, 5, around, "tube"))
    distance = Ground(tube).around((1, 0, 1.5), 1.4).distance(rows, places)
    turn = np.arctan2(places[:, 1], places[:, 0])
    arc = np.hypot(turn, places[:, 2] - 1.5)
    near = arc < 1.3
    np.testing.assert_allclose(distance[near], arc[near], rtol=8 / cells**2, atol=0.004)
    places, rows = sampled(round_ := grid_mesh(cells, cells, ball, "ball"))
    middle = np.array([np.cos(2.0), np.sin(2.0), 0.0])
    distance = Ground(round_).around(tuple(middle), 1.0).distance(rows, places)
    arc = np.arccos(np.clip(places @ middle / np.linalg.norm(places, axis=1), -1, 1))
    np.testing.assert_allclose(distance[arc < 0.9], arc[arc < 0.9], rtol=0.03, atol=0.02)


def test_what_only_lies_near_is_not_in_it():
    lower, upper = plane(6, name="one"), plane(6, 0.05, name="other")
    both = merge([lower, upper], "both")
    places, rows = sampled(both)
    distance = Ground(both).around((0.5, 0.5, 0.0), 0.3).distance(rows, places)
    assert not np.isfinite(distance[places[:, 2] > 0.01]).any()
    assert (distance < 0.3).sum() > 100

    def folded(u, v):  # a sheet bent over itself: its halves lie 0.1 apart, and hang together far off
        s = 2.2 * u - 1.1
        return np.where(np.abs(s) < 0.1, 0.05 * np.cos(5 * np.pi * s), -np.abs(s) + 0.1), v, 0.5 * np.clip(s, -0.1, 0.1)

    sheet = grid_mesh(44, 10, folded, "fold")
    places, rows = sampled(sheet)
    distance = Ground(sheet).around((-0.6, 0.5, 0.05), 0.3).distance(rows, places)
    assert (distance < 0.3).sum() > 100
    assert not (distance[places[:, 2] < 0] < 0.3).any()


def test_it_grows_over_seams_and_from_the_place_nearest_to_its_centre():
    low = torus(24, 12)
    cut = replace(low, positions=low.positions[low.triangles].reshape(-1, 3),
                  triangles=np.arange(3 * len(low.triangles), dtype=np.int32).reshape(-1, 3), normals=None, uvs=())  # fmt: skip
    places, rows = sampled(cut)
    whole = Ground(low).around((2.9, 0.1, 0.2), 0.8).distance(rows, places)
    np.testing.assert_allclose(Ground(cut).around((2.9, 0.1, 0.2), 0.8).distance(rows, places), whole)
    assert len(Ground(low).around((9.0, 0, 0), 0.8).rows) == 0


def test_shells_are_what_hangs_together_by_its_corners():
    both = merge([plane(2, name="one"), cube(0.5, (3, 0, 0), name="other")], "both")
    shells = Ground(both).shells
    assert len(set(shells[:8].tolist())) == len(set(shells[8:].tolist())) == 1
    assert shells[0] != shells[8]


def test_those_of_several_are_listed_by_triangle_in_their_order():
    low = plane(4)
    spread = spread_of(Ground(low), np.array([[0.2, 0.2, 0, 0.3], [0.8, 0.8, 0, 0.1], [0.2, 0.2, 0, 0.2]]))
    for row in range(len(low.triangles)):
        owners = spread.owner[spread.starts[row] : spread.starts[row + 1]]
        assert sorted(owners) == owners.tolist()
    some = np.array([5, 0, 31])
    chosen = spread.on(some)
    for place, row in enumerate(some):
        mine = slice(chosen.starts[place], chosen.starts[place + 1])
        np.testing.assert_array_equal(chosen.parts[mine], spread.parts[spread.starts[row] : spread.starts[row + 1]])
    assert spread_of(Ground(low), np.zeros((0, 4))).starts[-1] == 0
