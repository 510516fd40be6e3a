"""Maps at the vertices of the low: what is linear comes back exactly, what is not as near as can be."""

import numpy as np
import pytest

from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.formats import read_mesh
from inkwell_cast.core.handoff.vertex_bake import fit
from inkwell_cast.core.settings.handoff import Handoff

from ...shapes import plane, torus
from .test_handoff import finished, handed, recipe_for


def samples(mesh, count=20_000):
    """Random places on a mesh: triangles (N,), barycentrics (N, 3), and where they are (N, 3)."""
    rng = np.random.default_rng(4)
    rows, b = rng.integers(0, len(mesh.triangles), count), rng.dirichlet([1, 1, 1], count)
    return rows, b, (mesh.positions[mesh.triangles[rows]] * b[..., None]).sum(axis=1)


def test_what_is_linear_over_the_surface_is_found_exactly():
    mesh = plane(5)
    rows, b, places = samples(mesh)
    fitted = fit(
        mesh.triangles, mesh.positions[mesh.triangles], rows, b, places @ np.array([[1, 2, 0], [3, 0, 1], [0, 0, 0]])
    )
    np.testing.assert_allclose(fitted[:, 0], mesh.positions @ [1, 3, 0], atol=0.02)
    inner = np.abs(mesh.positions[:, :2] - 0.5).max(axis=1) < 0.4
    np.testing.assert_allclose(fitted[inner, 1], 2 * mesh.positions[inner, 0], atol=5e-3)


def test_no_other_values_at_the_vertices_come_nearer():
    mesh = plane(4)
    rows, b, places = samples(mesh)
    wanted = np.sin(7 * places[:, :1]) * np.cos(5 * places[:, 1:2])
    fitted = fit(mesh.triangles, mesh.positions[mesh.triangles], rows, b, wanted)

    def error(values):
        return float((((values[mesh.triangles[rows]] * b[..., None]).sum(axis=1) - wanted) ** 2).mean())

    found, rng = error(fitted), np.random.default_rng(1)
    assert found < 0.7 * error(
        np.sin(7 * mesh.positions[:, :1]) * np.cos(5 * mesh.positions[:, 1:2])
    )  # looked up there
    for _ in range(20):
        assert error(fitted + rng.normal(0, 0.05, fitted.shape)) > found


def test_vertices_that_nothing_tells_of_take_from_their_neighbours():
    mesh = plane(8)
    rows, b, places = samples(mesh)
    left = places[:, 0] < 0.5
    fitted = fit(mesh.triangles, mesh.positions[mesh.triangles], rows[left], b[left], np.full((left.sum(), 1), 0.7))
    np.testing.assert_allclose(fitted, 0.7, atol=1e-3)


def test_a_handoff_holds_the_low_with_a_map_at_its_vertices(tmp_path):
    ring = finished(tmp_path, recipe_for(maps=("position", "normal")), low=torus(32, 16), high=torus(96, 48))
    done = handed(ring, tmp_path / "out", Handoff(vertex_map="position"))
    names = [f"Ring_of_rope_position_vertices.{suffix}" for suffix in ("ply", "glb")]
    assert set(names) <= {own.file for own in done.manifest.files}
    for name in names:
        low = read_mesh(done.path / name)
        assert low.colors is not None
        colors = low.colors.values[low.colors.corners][..., :3] if low.color_space == "linear" else None
        if colors is None:
            continue
        facts = ring[1].manifest.maps[0].facts
        black, white = np.array(facts["black"]), np.array(facts["white"])
        found = black + colors * (white - black)
        assert np.abs(found - low.positions[low.triangles]).mean() < 0.05  # where a vertex lies is what it says
    with pytest.raises(InputProblem, match="no occlusion for its vertices"):
        handed(ring, tmp_path / "other", Handoff(vertex_map="occlusion"))
    for key in ("normal", "bent", "rounded"):
        with pytest.raises(InputProblem, match="tangent basis means nothing at its vertices"):
            handed(ring, tmp_path / "other", Handoff(vertex_map=key))
    assert not (tmp_path / "other").exists()
