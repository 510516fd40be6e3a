"""The ray field turned around, and what a cage holds, against closed forms."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.cage.cage import build_cage, lows_of
from inkwell_cast.core.cage.coverage import coverage, round_up
from inkwell_cast.core.cage.inverse_rays import locate
from inkwell_cast.core.cage.ray_directions import directions_of
from inkwell_cast.core.mesh.mesh import corner_positions, merge
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings import editing
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import cube, grid_mesh, plane, torus


def piece(low, high, outward=0.3, inward=0.2, **reach):
    recipe = Recipe(reach=Reach(unit="scene", outward=outward, inward=inward, **reach))
    warm = Warm()
    assembly = assemble(recipe, BakeMeshes([low], [high]), warm)
    return assembly, warm.sculpt(assembly)


def covered(low, high, *args, scope="piece", **kwargs):
    assembly, sculpt = piece(low, high, *args, **kwargs)
    return coverage(assembly, sculpt, build_cage(assembly), locate(assembly, sculpt), lows_of(assembly, scope))


@pytest.mark.parametrize("low", [plane(3), torus(24, 12)])
def test_a_located_point_lies_on_its_ray(low):
    high = torus(90, 45, small=0.75, name="high") if low.name == "torus" else plane(40, 0.11, name="high")
    assembly, sculpt = piece(low, high)
    found = locate(assembly, sculpt)
    assert len(found.height) > 0.98 * len(np.unique(high.positions, axis=0))
    p = np.einsum("nk,nkc->nc", found.b, corner_positions(assembly.low)[found.triangle])
    d = np.einsum("nk,nkc->nc", found.b, directions_of(assembly)[found.triangle])
    d /= np.linalg.norm(d, axis=1, keepdims=True)
    np.testing.assert_allclose(p + d * found.height[:, None], found.place, atol=2e-5)
    assert found.b.min() > -0.011
    np.testing.assert_allclose(found.b.sum(axis=1), 1, atol=1e-5)


def test_heights_of_a_raised_plane_are_exact_and_weigh_their_area():
    found = locate(*piece(plane(3), plane(40, 0.11, name="high")))
    np.testing.assert_allclose(found.height, 0.11, atol=1e-6)
    assert found.weight.sum() == pytest.approx(1, rel=1e-6)


def test_heights_are_what_the_rays_of_a_bake_find():
    low, high = torus(24, 12), torus(300, 150, small=0.74, name="high")
    assembly, sculpt = piece(low, high)
    found = locate(assembly, sculpt)
    cast = bake(
        assembly.recipe.model_copy(update={"sheet": Sheet(width=256, height=256, samples=1)}), BakeMeshes([low], [high])
    ).cast
    assert found.height.max() == pytest.approx(cast.height.max(), abs=2e-3)
    assert found.height.min() == pytest.approx(cast.height.min(), abs=2e-3)


def test_what_looks_away_or_lies_on_no_ray_is_left_out():
    below = plane(20, 0.05, name="high")
    away = replace(below, triangles=below.triangles[:, ::-1].copy(), normals=None, uvs=())
    assert len(locate(*piece(plane(), away)).height) == 0
    beside = replace(below, positions=below.positions + np.array([3, 0, 0], np.float32))
    assert len(locate(*piece(plane(), beside)).height) == 0
    assert covered(plane(), away).held == 0  # not one of its points is in any ray


def steps(u, v):
    """Half of the plane at 0.25, half at -0.15, a narrow slope between."""
    return u, v, np.where(u < 0.5, 0.25, -0.15)


@pytest.mark.parametrize(
    ("outward", "inward", "outside", "below"),
    [
        (0.3, 0.2, 0, 0),
        (0.2, 0.2, 0.05, 0),
        (0.3, 0.1, 0, 0.05),
        (0.1, 0.05, 0.15, 0.1),
    ],
)
def test_what_is_held_and_how_far_the_rest_is_beyond(outward, inward, outside, below):
    found = covered(plane(2), grid_mesh(200, 20, steps, "high"), outward, inward)
    assert found.worst_outside == pytest.approx(outside, abs=1e-5)
    assert found.worst_below == pytest.approx(below, abs=1e-5)
    assert found.held == pytest.approx(1 - 0.5 * (outside > 0) - 0.5 * (below > 0), abs=0.02)
    assert found.needed == pytest.approx((0.25, 0.15), abs=1e-5)
    assert len(found.places) == (outside > 0) + (below > 0)
    assert (found.closest is None) == bool(found.places)
    assert found.surface.sum() == pytest.approx(found.surface[:12].sum() + found.surface[-12:].sum(), rel=0.05)


@pytest.mark.parametrize(
    ("outward", "inward", "end", "spare", "side"),
    [
        (0.3, 0.4, "the outer reach", 0.05, slice(0, 0.5)),
        (0.6, 0.2, "the inner reach", 0.05, slice(0.5, 1)),
    ],
)
def test_where_all_is_held_the_place_nearest_to_an_end_is_told(outward, inward, end, spare, side):
    found = covered(plane(2), grid_mesh(200, 20, steps, "high"), outward, inward)
    assert found.closest
    assert (found.nearest_end, found.closest.part) == (end, "high/high")
    assert found.closest.beyond == pytest.approx(-spare, abs=1e-5)
    np.testing.assert_allclose(found.closest.facing, [0, 0, 1], atol=1e-6)
    assert side.start <= found.closest.middle[0] <= side.stop


def test_places_are_apart_and_the_worst_comes_first():
    def bumps(u, v):
        return (
            u,
            v,
            0.1
            + 0.3 * np.exp(-((u - 0.2) ** 2 + (v - 0.2) ** 2) * 900)
            + 0.2 * np.exp(-((u - 0.8) ** 2 + (v - 0.7) ** 2) * 900),
        )

    found = covered(plane(2), grid_mesh(150, 150, bumps, "high"), 0.15, 0.1)
    assert [p.beyond for p in found.places] == pytest.approx([0.25, 0.15], abs=0.01)
    np.testing.assert_allclose(found.places[0].middle[:2], [0.2, 0.2], atol=0.02)
    assert found.places[0].lack == "outside"
    assert found.places[0].part == "high/high"
    np.testing.assert_allclose(found.places[0].facing, [0, 0, 1], atol=1e-6)


def test_rays_of_the_low_that_strike_nothing_are_counted_and_placed():
    half = grid_mesh(40, 40, lambda u, v: (0.6 * u, v, 0.05 + 0 * u), "high")
    gaps = covered(plane(2), half, 0.1, 0.1).gaps
    assert gaps.missed == pytest.approx(0.4, abs=0.005)
    assert gaps.behind == 0
    assert gaps.rim.lines[..., 0].mean() == pytest.approx(0.6, abs=0.01)  # and the line runs where they begin
    assert [(p.lack, p.part) for p in gaps.places] == [("missed", "plane/plane")]
    np.testing.assert_allclose(gaps.places[0].middle, [0.8, 0.5, 0], atol=0.01)


def test_rays_that_start_behind_another_surface_are_counted_with_how_far():
    shelf = cube()
    shelf = replace(shelf, positions=(shelf.positions * [0.5, 1, 0.1] + np.array([0.75, 0.5, 0.3])).astype(np.float32))
    high = merge([plane(20, 0.05, name="ground"), shelf], "high")
    free, inside = (covered(plane(2), high, reach, 0.1).gaps for reach in (0.19, 0.33))
    assert free.behind == 0
    assert inside.behind == pytest.approx(0.5, abs=0.01)
    assert [(p.lack, p.beyond) for p in inside.places] == [("behind", pytest.approx(0.08, abs=1e-4))]


def test_a_scope_speaks_of_its_own_lows():
    low = replace(plane(), name="a_low", object_names=("a_low",))
    other = grid_mesh(1, 1, lambda u, v: (u + 4, v, 0 * u), "b_low")
    highs = [plane(30, 0.2, name="a_high"), grid_mesh(30, 30, lambda u, v: (u + 4, v, 0 * u + 0.02), "b_high")]
    recipe = editing.set_scope(Recipe(reach=Reach(unit="scene", outward=0.1, inward=0.1)), "pair:b", {"outward": 0.5})
    warm = Warm()
    assembly = assemble(recipe, BakeMeshes([], [], [low, other, *highs]), warm)
    sculpt, cage = warm.sculpt(assembly), build_cage(assembly)
    located = locate(assembly, sculpt)
    held = {
        s: coverage(assembly, sculpt, cage, located, lows_of(assembly, s)).held
        for s in ("piece", "pair:a", "object:b_low/b_low")
    }
    assert held == {"piece": pytest.approx(0.5, abs=0.01), "pair:a": 0, "object:b_low/b_low": 1}


def test_split_directions_keep_to_the_faces():
    low, high = cube(), cube(1.2, name="high")
    averaged, split = (build_cage(piece(low, high, directions=d)[0]).offsets for d in ("averaged", "split"))
    np.testing.assert_allclose(np.abs(averaged), 0.3 / np.sqrt(3), atol=1e-5)
    assert np.count_nonzero(np.abs(split) > 1e-6) == 36
    recipe = Recipe(
        reach=Reach(unit="scene", outward=0.3, inward=0.2, directions="split"),
        sheet=Sheet(width=64, height=64, samples=1),
    )
    cast = bake(recipe, BakeMeshes([low], [high])).cast
    np.testing.assert_allclose(cast.height[cast.struck > 0], 0.1, atol=1e-6)


@pytest.mark.parametrize(("value", "rounded"), [(0, 0), (0.12301, 0.124), (1577.2, 1580), (2.0, 2.0), (-1, 0)])
def test_suggestions_are_rounded_up_to_three_figures(value, rounded):
    assert round_up(value) == pytest.approx(rounded, rel=1e-12)
