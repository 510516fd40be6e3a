"""The light meshes that a browser draws."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.mesh.binary_message import unpack
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.review import display_meshes
from inkwell_cast.core.settings.recipe import Recipe

from ...shapes import cube, plane, torus, torus_normals


def opened(blocks):
    return unpack(np.frombuffer(b"".join(blocks), np.uint8))


def test_the_view_of_the_lows_carries_their_basis_and_sheets():
    lonely = replace(plane(name="lonely_low"), uvs=())
    assembly = assemble(Recipe(), BakeMeshes([], [], [cube(name="a_low"), lonely, cube(2.0, name="a_high")]))
    header, arrays = opened(display_meshes.view_of_low(assembly))
    assert (header["triangles"], header["paired"]) == (14, 12)
    assert header["keys"] == ["a_low/a_low", "lonely_low/lonely_low"]
    assert header["pairs"] == ["a", ""]
    assert arrays["sheet"].tolist() == [0] * 12 + [255] * 2
    assert arrays["tangent"].shape == (42, 4)
    _, cage = opened(display_meshes.view_of_cage(assembly, Warm()))
    reach = 0.015 * np.sqrt(3)
    corner = 0.5 + reach / np.sqrt(3)
    np.testing.assert_allclose(np.abs(cage["lines"]), corner, atol=1e-6)  # the twelve edges of a larger cube
    assert cage["lines"].shape == (12, 2, 3)
    assert cage["rays"].shape == (600, 2, 3)


def test_the_view_of_a_sculpt_is_indexed():
    mesh = torus(40, 20)
    header, arrays = opened(display_meshes.view_of_sculpt(mesh, ("torus",)))
    assert not header["standIn"]
    np.testing.assert_array_equal(arrays["index"].reshape(-1, 3), mesh.triangles)


def test_a_large_sculpt_is_shown_through_a_stand_in(monkeypatch):
    mesh = torus(800, 400)
    for thin_out in (4_000_000, 100_000):
        monkeypatch.setattr(display_meshes, "THIN_OUT_ABOVE", thin_out)
        header, arrays = opened(display_meshes.view_of_sculpt(mesh, ("torus",)))
        assert header["standIn"]
        assert header["triangles"] == 640_000
        assert len(arrays["index"]) // 3 < 300_000
        ring = np.hypot(arrays["position"][:, 0], arrays["position"][:, 1]) - 2
        assert np.abs(np.hypot(ring, arrays["position"][:, 2]) - 0.7).max() < 0.01
        assert np.abs(np.linalg.norm(arrays["normal"], axis=1) - 1).max() < 1e-4


@pytest.mark.deep
def test_a_sculpt_with_a_vertex_for_every_corner_is_not_torn_by_its_stand_in():
    whole = torus(800, 400)
    corners = np.arange(3 * len(whole.triangles), dtype=np.int32).reshape(-1, 3)
    split = replace(
        whole, positions=whole.positions[whole.triangles].reshape(-1, 3), triangles=corners, uvs=(), normals=None
    )
    light = display_meshes.stand_in(split)
    assert len(light.triangles) < 300_000
    edges = np.sort(light.triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
    _, times = np.unique(edges, axis=0, return_counts=True)
    assert (times == 2).mean() > 0.999  # closed, as the whole one is


def test_what_a_stand_in_hides_is_drawn_near_by_with_every_triangle():
    mesh = torus(800, 400)
    centre, radius = np.array([2.7, 0.0, 0.0]), 0.3
    header, arrays = opened(display_meshes.view_near(mesh, ("torus",), centre, radius))
    assert header["drawn"]
    assert header["complete"]
    corners = arrays["position"][arrays["index"].reshape(-1, 3)]
    whole = mesh.positions[mesh.triangles]
    reach = np.linalg.norm(whole - centre, axis=2).min(axis=1) <= radius
    near = {tuple(row) for row in corners.reshape(-1, 9).tolist()}
    assert {tuple(row) for row in whole[reach].reshape(-1, 9).tolist()} <= near
    assert len(near) < 2 * reach.sum()
    inside = np.linalg.norm(arrays["position"] - centre, axis=1) < radius
    whole_header, whole_arrays = opened(display_meshes.view_of_sculpt(replace(mesh, name="torus"), ("torus",)))
    assert header["keys"] == whole_header["keys"]
    away = np.linalg.norm(whole_arrays["position"] - centre, axis=1) < radius
    assert inside.sum() > 2 * away.sum()
    exact = torus_normals(arrays["position"].astype(np.float64))
    np.testing.assert_allclose(arrays["normal"][inside], exact[inside], atol=2e-3)  # the rim has its neighbours


def test_a_large_triangle_that_crosses_a_place_is_drawn_there_too():
    header, arrays = opened(display_meshes.view_near(plane(1), ("plane",), (0.5, 0.4, 0.0), 0.01))
    assert header["drawn"]
    assert len(arrays["index"]) == 6


def test_of_a_place_with_too_many_triangles_a_finer_stand_in_is_drawn_or_a_closer_look_is_asked_for(monkeypatch):
    mesh = torus(400, 200)
    for name, value in (("STAND_IN_ABOVE", 20_000), ("STAND_IN_TRIANGLES", 10_000)):
        monkeypatch.setattr(display_meshes, name, value)
    place = (mesh, ("torus",), (2.7, 0.0, 0.0))
    header, arrays = opened(display_meshes.view_near(*place, 1.5))
    assert (header["drawn"], header["complete"]) == (True, False)
    assert 5_000 < len(arrays["index"]) // 3 < 20_000
    monkeypatch.setattr(display_meshes, "NEAR_AT_MOST", 1000)
    header, arrays = opened(display_meshes.view_near(*place, 1.5))
    assert (header["drawn"], arrays) == (False, {})
