"""The fitted cage, and faces of a cage that fold or cross."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.base.errors import Cancelled
from inkwell_cast.core.cage import fit
from inkwell_cast.core.cage.cage import build_cage
from inkwell_cast.core.cage.coverage import coverage
from inkwell_cast.core.cage.inverse_rays import located_of
from inkwell_cast.core.cage.self_intersection import folds_of
from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import grid_mesh, plane, torus


def fitted(low, high, clearance=0.01, inward=0.3, outward=0.1):
    reach = Reach(
        unit="scene", outward=outward, inward=inward, shape="fitted", clearance=clearance, margin_unit="scene"
    )
    warm = Warm()
    assembly = assemble(Recipe(reach=reach, sheet=Sheet(width=96, height=96)), BakeMeshes([low], [high]), warm)
    return assembly, warm, fit.cage_of(assembly, warm)


def covered(assembly, warm, cage):
    return coverage(assembly, warm.sculpt(assembly), cage, located_of(assembly, warm))


@pytest.mark.parametrize("clearance", [0.002, 0.03])
def test_a_raised_plane_is_held_at_its_height_and_the_clearance(clearance):
    _, _, cage = fitted(plane(4), plane(40, 0.11, name="high"), clearance)
    np.testing.assert_allclose(np.linalg.norm(cage.offsets, axis=2), 0.11 + clearance, atol=1e-5)


def bump(u, v):
    return u, v, 0.2 * np.exp(-((u - 0.5) ** 2 + (v - 0.5) ** 2) * 60)


def test_a_bump_raises_the_cage_over_it_alone():
    assembly, warm, cage = fitted(plane(16), grid_mesh(150, 150, bump, "high"))
    found = covered(assembly, warm, cage)
    assert (found.held, found.points_outside) == (1, 0)
    height = np.linalg.norm(cage.offsets, axis=2)
    corner = np.abs(assembly.low.positions[assembly.low.triangles][..., :2] - 0.5).max(axis=2)
    np.testing.assert_allclose(height[corner > 0.4], 0.1, atol=1e-6)  # the even reach, which holds it there
    assert 0.2 < height.max() < 0.26
    assert found.cage.mean_outward < 0.105


def test_a_lumpy_torus_is_held_smoothly_and_with_much_shorter_rays():
    high = torus(240, 120, name="high")
    spot = np.exp(-((high.positions[:, 0] - 2.7) ** 2 + high.positions[:, 1] ** 2) * 6)
    high = replace(
        high, positions=high.positions + high.normals.values * (0.25 * spot)[:, None].astype(np.float32), normals=None
    )
    assembly, warm, cage = fitted(torus(24, 12), high)
    found = covered(assembly, warm, cage)
    assert (found.held, found.points_outside) == (1, 0)
    assert found.cage.mean_outward < 2 / 3 * found.needed[0]
    assert found.cage.folded == 0
    assert found.cage.crossing == 0
    lengths = np.linalg.norm(cage.offsets, axis=2)
    sides = np.linalg.norm(np.diff(assembly.low.positions[assembly.low.triangles], axis=1), axis=2)
    assert (np.abs(np.diff(lengths, axis=1)) <= sides + 1e-5).all()


def test_a_bake_with_a_fitted_cage_misses_nothing_and_is_computed_once():
    low, high = torus(24, 12), torus(240, 120, small=0.75, name="high")
    assembly, warm, cage = fitted(low, high)
    assert fit.cage_of(assembly, warm).offsets.tobytes() == cage.offsets.tobytes()
    result = bake(assembly.recipe, BakeMeshes([low], [high]), warm=warm)
    assert result.cast.missed == 0
    assert result.cage.offsets.tobytes() == cage.offsets.tobytes()


def valley(depth):
    """Two slopes that meet in a valley along y."""
    return grid_mesh(2, 1, lambda u, v: (2 * u - 1, v, depth * np.abs(2 * u - 1)), "valley")


def offsets_of(mesh, length):
    assembly = assemble(Recipe(reach=Reach(unit="scene", outward=length, inward=0)), BakeMeshes([mesh], [mesh]))
    return assembly, build_cage(assembly)


@pytest.mark.parametrize(("length", "folds"), [(0.5, False), (1.5, True)])
def test_a_trough_s_cage_is_folded_once_it_is_pushed_past_its_axis(length, folds):
    trough = grid_mesh(12, 1, lambda u, v: (-np.cos(np.pi * u), v, -np.sin(np.pi * u)), "trough")
    assembly, cage = offsets_of(trough, length)
    inner = folds_of(assembly, cage).folded.reshape(2, 12)[:, 1:-1]  # at the ends directions are those of one face
    assert (inner == folds).all()


def test_cages_of_one_object_that_meet_cross_and_those_of_two_do_not():
    facing = replace(
        plane(3), positions=plane(3).positions * np.array([1, 1, 0], np.float32) + np.array([0.1, 0.2, 1], np.float32)
    )
    facing = replace(facing, triangles=facing.triangles[:, ::-1].copy(), normals=None)
    slanted = replace(facing, positions=facing.positions + facing.positions[:, :1] * np.array([0, 0, 0.3], np.float32))
    both = merge([plane(3), replace(slanted, object_names=("other",))], "pair")
    one = replace(both, objects=np.zeros_like(both.objects), object_names=("one",))
    for mesh, crosses in ((one, True), (both, False)):
        assembly, cage = offsets_of(mesh, 0.2)
        assert not folds_of(assembly, cage).crossing.any()
        assembly, cage = offsets_of(mesh, 0.56)
        assert folds_of(assembly, cage).crossing.any() == crosses


def test_a_fitted_cage_stops_before_a_face_folds():
    """A deep valley whose sculpt asks for more than its faces can be pushed without folding."""
    low, high = valley(3.0), plane(30, 4.0, 2.0, "high")
    high = replace(high, positions=high.positions - np.array([1, 0.5, 0], np.float32))
    assembly, _, cage = fitted(low, high)
    assert not folds_of(assembly, cage).folded.any()
    assert np.isfinite(cage.offsets).all()


def under_a_shelf():
    """A plane, and a sculpt of it with a bump beside the underside of a shelf over a third of it."""

    def bumpy(u, v):
        return u, v, 0.02 + 0.13 * np.exp(-((u - 0.65) ** 2 + (v - 0.5) ** 2) * 4000)

    shelf = grid_mesh(1, 1, lambda u, v: (1 - 0.3 * u, v, 0.1 + 0 * u), "shelf")
    return plane(4), merge([grid_mesh(300, 300, bumpy), shelf], "high")


def test_a_fitted_cage_stays_short_of_what_hangs_over_it(monkeypatch):
    """The bump can be held by the vertices beside the shelf or by cheaper ones under it."""
    assembly, warm, cage = fitted(*under_a_shelf())
    found = covered(assembly, warm, cage)
    assert found.held == 1
    assert found.gaps.behind < 0.004
    monkeypatch.setattr(fit, "BEHIND", 0.0)
    assembly, warm, cage = fitted(*under_a_shelf())
    assert covered(assembly, warm, cage).gaps.behind > 0.04


def test_a_fit_that_starts_behind_a_shelf_comes_back_below_it_and_nowhere_else():
    assembly, _, cage = fitted(*under_a_shelf(), outward=0.3)
    height, u = np.linalg.norm(cage.offsets, axis=2), assembly.low.positions[assembly.low.triangles][..., 0]
    assert height[u > 0.9].mean() < 0.1  # the shelf, where a single vertex may stand a little over it
    np.testing.assert_allclose(height[u < 0.4], 0.3, atol=1e-6)


def test_a_spike_far_above_the_reach_is_an_outlier_that_moves_nothing():
    spike = grid_mesh(1, 1, lambda u, v: (0.5 + 0.01 * u, 0.5 + 0.01 * v, 0.9 + 0 * u), "spike")
    _, _, cage = fitted(plane(8), merge([plane(60, 0.05), spike], "high"))
    np.testing.assert_allclose(np.linalg.norm(cage.offsets, axis=2), 0.1, atol=1e-6)


def test_a_fit_can_be_stopped_between_its_parts():
    told = []

    def tell(share):
        told.append(share)
        if share > 0:
            raise Cancelled

    low = merge([plane(4, name="a"), replace(plane(4, 2.0), object_names=("b",))], "low")
    assembly = assemble(
        Recipe(reach=Reach(unit="scene", shape="fitted")), BakeMeshes([low], [plane(20, 0.1, name="high")])
    )
    with pytest.raises(Cancelled):
        fit.cage_of(assembly, Warm(), tell)
    assert sorted(set(told)) == [0.0, 0.25]  # 0 is told again where a part takes long
