"""Edges, cells of a grid, and places on a surface, against ways that are slow and plain."""

from collections import defaultdict

import numba
import numpy as np
import pytest

from inkwell_cast.core.mesh.adjacency import MANY, edges_of
from inkwell_cast.core.mesh.cells import numbered_cells
from inkwell_cast.core.mesh.mesh import Mesh
from inkwell_cast.core.mesh.shells import volume_of
from inkwell_cast.core.mesh.surface_samples import few_over, surface_of

from ...shapes import cube, torus


def soup(count, points, seed):
    """Triangles between few points: edges of many faces, faces that use a vertex twice, neighbours turned over."""
    rng = np.random.default_rng(seed)
    places = rng.normal(size=(points, 3)).astype(np.float32)
    return Mesh("soup", places, rng.integers(0, points, (count, 3)).astype(np.int32))


def fan(count):
    """Faces around one vertex, more than are compared one by one."""
    angle = 2 * np.pi * np.arange(count) / count
    rim = np.stack([np.cos(angle), np.sin(angle), 0 * angle], axis=1)
    n = np.arange(count)
    triangles = np.stack([0 * n, 1 + n, 1 + (n + 1) % count], axis=1)
    return Mesh("fan", np.concatenate([np.zeros((1, 3)), rim]).astype(np.float32), triangles.astype(np.int32))


@pytest.mark.parametrize("mesh", [soup(300, 12, 1), soup(400, 60, 2), fan(3 * MANY), soup(2000, 9, 3), torus(20, 10)])
def test_edges_are_those_that_a_search_of_all_pairs_finds(mesh):
    found = edges_of(mesh)
    ids, sharing = found.ids, defaultdict(list)
    for t, (a, b, c) in enumerate(ids.tolist()):
        for k, (one, other) in enumerate(((a, b), (b, c), (c, a))):
            if len({a, b, c}) == 3:
                sharing[frozenset((one, other))].append((t, k, one < other))
    uses, across, side, against = np.zeros((4, *ids.shape), np.int64)
    across[:] = -1
    for edges in sharing.values():
        for n, (t, k, forward) in enumerate(edges):
            uses[t, k] = len(edges)
            for f, m, other in edges[n + 1 :]:
                if other == forward and len(edges) == 2:
                    against[t, k] = against[f, m] = True
                elif other != forward and across[t, k] < 0 and across[f, m] < 0:
                    across[t, k], across[f, m], side[t, k], side[f, m] = f, t, m, k
    for name, expected in (("uses", uses), ("across", across), ("side", side), ("against", against)):
        np.testing.assert_array_equal(getattr(found, name), expected, err_msg=name)


def test_edges_are_the_same_for_any_number_of_threads():
    mesh = soup(3000, 200, 5)
    numba.set_num_threads(1)
    alone = edges_of(mesh)
    numba.set_num_threads(numba.config.NUMBA_NUM_THREADS)
    together = edges_of(mesh)
    for name in ("uses", "across", "side", "against"):
        np.testing.assert_array_equal(getattr(alone, name), getattr(together, name))


def test_cells_are_numbered_in_the_order_in_which_they_come():
    points = np.random.default_rng(6).uniform(0, 1, (20_000, 3)).astype(np.float32)
    of, first = numbered_cells(points, 0.07)
    low = points.min(axis=0).astype(np.float64)
    _, begin, place = np.unique(np.floor((points - low) / 0.07), axis=0, return_index=True, return_inverse=True)
    np.testing.assert_array_equal(first, np.sort(begin))
    np.testing.assert_array_equal(first[of], begin[place.reshape(-1)])
    up, down = np.tile(np.float32([0, 0, 1]), (20_000, 1)), np.tile(np.float32([0, 0, 1]), (20_000, 1))
    down[::2, 2] = -1
    assert len(numbered_cells(points, 0.5, up)[1]) == 8
    assert len(numbered_cells(points, 0.5, down)[1]) == 16  # what looks the other way is another patch


def test_places_on_a_surface_of_parts_are_those_of_their_corners():
    parts = [(m.positions, m.triangles) for m in (torus(20, 10), cube(0.5, (3, 0, 0)))]
    surface = surface_of(parts)
    corners = np.concatenate([p[t] for p, t in parts]).astype(np.float64)
    owner, b = few_over(corners, 500)
    places, found = surface.places(500)
    np.testing.assert_array_equal(found, owner)
    np.testing.assert_allclose(places, np.einsum("nk,nkc->nc", b, corners[owner]))
    np.testing.assert_array_equal(surface.part_of(found), owner >= len(parts[0][1]))
    np.testing.assert_allclose(surface.box, [corners.min(axis=(0, 1)), corners.max(axis=(0, 1))])


def test_a_closed_shell_encloses_its_volume_wherever_it_lies():
    box = cube(0.5, (300, -20, 7))
    low, high = box.bounds
    assert volume_of(box.positions, box.triangles) == pytest.approx(np.prod(high - low), rel=1e-4)
    assert volume_of(box.positions, box.triangles[:, ::-1].copy()) < 0
