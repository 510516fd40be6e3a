"""Occlusion and bent normals against closed forms, by rays and without."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.piece import occluders as of_piece
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings.maps import Occlusion, SheetOcclusion
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.pairing import Pairing, Placing
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import cube, grid_mesh, plane, torus
from ..bakes import baked, moved, upside_down, values


@pytest.mark.parametrize("height", [0.05, 0.4])
def test_occlusion_between_two_planes_is_the_view_factor_of_the_ceiling(height):
    """A point under the middle of a square ceiling of side 2 a at height h sees it with the factor of a square.

    F = (4 / pi) X / sqrt(1 + X^2) atan(X / sqrt(1 + X^2)) with X = a / h: J. Howell, catalogue of view factors, B-4.
    """
    ceiling = upside_down(moved(plane(1, size=2.0, name="ceiling"), (-0.5, -0.5, height)))
    floor = plane(4, name="floor")
    result = baked(
        plane(),
        merge([floor, ceiling], "high"),
        ["occlusion"],
        size=17,
        outward=0.02,
        inward=0.02,
        occlusion=Occlusion(rays=1024, noise=0),
    )
    ratio = 1.0 / height
    root = np.sqrt(1 + ratio * ratio)
    expected = 1 - 4 / np.pi * ratio / root * np.arctan(ratio / root)
    assert values(result, "occlusion")[8, 8] == pytest.approx(expected, abs=0.01)


@pytest.mark.parametrize("angle", [60, 120])
def test_occlusion_in_a_wedge_of_two_long_planes(angle):
    """Cosine-weighted directions across the wedge: what lies between the edge and the far end E of the other plane is
    blocked, (1 - sin) / 2 with the sine of E's angle from the normal, toward the edge."""
    lean = np.radians(90 - angle / 2)
    sides = [
        grid_mesh(1, 1, lambda u, v, s=s: (s * u * np.cos(lean), 400 * s * (v - 0.5), u * np.sin(lean)), name)
        for s, name in ((1, "right"), (-1, "left"))
    ]
    high = replace(merge(sides, "high"), uvs=())
    result = baked(
        sides[0], high, ["occlusion"], size=32, outward=1e-3, inward=1e-3, occlusion=Occlusion(rays=1024, noise=0)
    )
    found = values(result, "occlusion")[16]
    s = (np.arange(32) + 0.5) / 32
    across = np.radians(angle)
    end = np.stack([np.cos(across) - s, np.full(32, np.sin(across))])  # from the point, along the plane and off it
    sine = -end[0] / np.linalg.norm(end, axis=0)
    np.testing.assert_allclose(found, 1 - (1 - sine) / 2, atol=0.012)


@pytest.mark.parametrize(("falloff", "power"), [("none", 0), ("linear", 1), ("square", 2)])
def test_falloff_weighs_a_ceiling_by_its_distance(falloff, power):
    """Under an endless ceiling at h, with reach d: the integral of (1 - h / (d cos))^p 2 cos sin up to acos(h / d)."""
    h, d = 0.1, 0.2
    ceiling = upside_down(moved(plane(1, size=9.0, name="ceiling"), (-4, -4, h)))
    result = baked(
        plane(),
        merge([plane(2, name="floor"), ceiling], "high"),
        ["occlusion"],
        size=16,
        outward=0.02,
        inward=0.02,
        occlusion=Occlusion(rays=1024, noise=0, distance=d, unit="scene", falloff=falloff),
    )
    c = np.linspace(h / d, 1, 200_001)
    share = np.trapezoid((1 - h / (d * c)) ** power * 2 * c, c)
    assert values(result, "occlusion")[8, 8] == pytest.approx(1 - share, abs=0.01)


def test_a_narrow_cone_sees_past_a_wall_and_an_open_plane_is_white():
    wall = replace(cube(name="wall"), uvs=(), normals=None)
    wall = moved(wall, (-0.51, 0.5, 0), (1, 4, 1))
    high = merge([replace(plane(4), uvs=()), wall], "high")
    wide, narrow = (
        values(
            baked(
                plane(),
                high,
                ["occlusion"],
                outward=1e-3,
                inward=1e-3,
                occlusion=Occlusion(rays=256, noise=0, cone=cone),
            ),
            "occlusion",
        )
        for cone in (180, 40)
    )
    assert wide[24, 1] == pytest.approx(0.5, abs=0.05)
    assert narrow[24, 24] == 1
    assert (values(baked(plane(), plane(4), ["occlusion"]), "occlusion") == 1).all()


def named(mesh, name):
    return replace(mesh, name=name, object_names=(name,))


def test_the_layer_of_floaters_holds_just_the_shade_that_they_would_cast():
    lid = upside_down(moved(plane(1, size=0.5), (0.4, 0.2, 0.1)))
    parts = [named(plane(), "a_low"), named(plane(2), "a_high")]
    recipe = Recipe(
        reach=Reach(unit="scene", outward=0.02, inward=0.02),
        sheet=Sheet(width=24, height=24, samples=4),
        output=Output(maps=["occlusion", "floaters"], depth=16),
        occlusion=Occlusion(rays=32),
    )
    floating = bake(recipe, BakeMeshes([], [], [*parts, named(lid, "a_float_lid")]))
    solid = bake(recipe, BakeMeshes([], [], [*parts, named(lid, "a_high_lid")]))
    assert (floating.images["occlusion"] == 65535).all()
    np.testing.assert_array_equal(floating.images["floaters"], solid.images["occlusion"])
    assert floating.sheets[0].facts["floaters"] == {"floaters": 1}
    assert (solid.images["floaters"] == 65535).all()  # there are none


def test_floaters_and_other_pairs_cast_no_shade_unless_asked():
    ceiling = upside_down(moved(plane(1, size=9.0), (-4, -4, 0.1)))
    floor, low = named(plane(2), "a_high"), named(plane(), "a_low")
    for name, occluders, dark in (
        ("a_high_roof", "pair", True),
        ("a_float_roof", "pair", False),
        ("b_high", "pair", False),
        ("b_high", "piece", True),
        ("a_high_roof", "low", False),
    ):
        meshes = BakeMeshes([], [], [low, floor, named(ceiling, name), named(moved(plane(), (50, 0, 0)), "b_low")])
        recipe = Recipe(
            reach=Reach(unit="scene", outward=0.02, inward=0.02),
            sheet=Sheet(width=16, height=16, samples=1),
            output=Output(maps=["occlusion"]),
            occlusion=Occlusion(rays=64, noise=0, occluders=occluders),
        )
        free = bake(recipe, meshes).images["occlusion"][8, 8, 0]
        assert (free < 30) == dark, (name, occluders, free)


def test_the_bent_normal_in_a_corner_leans_out_of_it():
    """At the foot of a high wall half the sky is free: the mean of its cosine-weighted directions leans by (4 / 3pi)."""
    wall = replace(cube(name="wall"), uvs=(), normals=None)
    wall = moved(wall, (-50, 0.5, 0), (100, 200, 200))
    high = merge([replace(plane(4), uvs=()), wall], "high")
    result = baked(plane(), high, ["bent"], size=64, outward=1e-4, inward=1e-4, occlusion=Occlusion(rays=1024, noise=0))
    bent = values(result, "bent")[32, 0] * 2 - 1
    lean = np.degrees(np.arctan2(bent[0], bent[2]))
    assert lean == pytest.approx(np.degrees(np.arctan((4 / (3 * np.pi)) / (2 / 3))), abs=1.5)
    assert abs(bent[1]) < 0.02


def test_denoised_occlusion_comes_closer_to_the_truth():
    low, high = torus(24, 12), moved(torus(120, 60), (0, 0, 0))
    lid = upside_down(moved(plane(1, size=9.0, name="lid"), (-4.5, -4.5, 0.75)))
    high = merge([replace(high, uvs=()), replace(lid, uvs=())], "high")
    truth, rough, smooth = (
        values(baked(low, high, ["occlusion"], size=96, outward=0.02, inward=0.05, occlusion=o), "occlusion")
        for o in (Occlusion(rays=1024, noise=0), Occlusion(rays=16), Occlusion(rays=16, denoise=True))
    )
    error = [np.sqrt(((image - truth) ** 2).mean()) for image in (rough, smooth)]
    assert error[1] < 0.5 * error[0]


def test_rays_stop_where_the_wanted_noise_is_reached():
    """A texel in the open takes the fewest rays; one that is half hidden as many as its error asks for."""
    ceiling = upside_down(moved(plane(1, size=9.0, name="ceiling"), (0.5, -4, 0.3)))  # over half of the floor
    high = merge([plane(2, name="floor"), ceiling], "high")

    def looked(noise):
        o = Occlusion(rays=256, noise=noise)
        return baked(plane(), high, ["occlusion"], size=64, outward=0.02, inward=0.02, occlusion=o)

    whole, quick = looked(0.0), looked(0.02)
    truth, found = values(whole, "occlusion"), values(quick, "occlusion")
    error = np.sqrt(((found - truth) ** 2).mean())
    assert 0.002 < error < 0.02  # not all rays were traced, and no more than was allowed is lost


def groove(depth, half):
    """A plane with a round groove along y in the middle, `half` wide to either side."""

    def point(u, v):
        inside = np.clip(1 - ((u - 0.5) / half) ** 2, 0, 1)
        return u, v, -depth * inside

    return grid_mesh(400, 4, point, "high")


def test_quick_occlusion_of_a_groove_is_near_that_of_rays_and_a_plane_is_white():
    maps = ["occlusion", "sheet_occlusion"]
    result = baked(
        plane(),
        groove(0.05, 0.1),
        maps,
        size=128,
        outward=0.01,
        inward=0.3,
        occlusion=Occlusion(rays=256, noise=0),
        sheet_occlusion=SheetOcclusion(radius=20),
    )
    rays, quick = (values(result, key)[40:88] for key in maps)
    assert rays[:, 64].mean() < 0.91
    assert np.abs(quick.mean(axis=0) - rays.mean(axis=0)).max() < 0.06
    assert np.abs(quick - rays).mean() < 0.01
    assert (values(baked(plane(), plane(9, 0.1, name="high"), maps), "sheet_occlusion") == 1).all()
    dark = baked(
        plane(),
        groove(0.05, 0.1),
        maps[1:],
        size=128,
        inward=0.3,
        sheet_occlusion=SheetOcclusion(radius=20, contrast=3),
    )
    np.testing.assert_allclose(values(dark, "sheet_occlusion")[40:88], quick**3, atol=1e-3)


def test_quick_occlusion_sees_no_other_island():
    """A box unwrapped into six islands: faces that meet at a right angle do not shade each other across the sheet."""
    assert values(baked(cube(), cube(1.02, name="high"), ["sheet_occlusion"], size=96), "sheet_occlusion").min() > 0.99


def test_occlusion_of_highs_and_lows_is_multiplied():
    ceiling = upside_down(moved(plane(1, size=9.0), (-4, -4, 0.1)))
    low = merge([plane(), replace(ceiling, uvs=plane().uvs)], "low")
    high = merge([plane(2, name="floor"), ceiling], "high")
    free = [
        values(
            baked(
                low,
                high,
                ["occlusion"],
                size=16,
                outward=0.02,
                inward=0.02,
                occlusion=Occlusion(rays=64, noise=0, distance=0.2, unit="scene", falloff="linear", occluders=which),
            ),
            "occlusion",
        )[8, 8]
        for which in ("pair", "low", "pair x low")
    ]
    assert 0.2 < free[0] < 0.9
    assert free[2] == pytest.approx(free[0] * free[1], abs=1e-4)


def test_another_sculpt_or_role_leaves_nothing_of_the_last_behind():
    """A sculpt that takes the place of another, and a roof that becomes a floater, in one warm engine."""

    def named(mesh, name):
        return replace(mesh, name=name, object_names=(name,))

    warm, low, floor = Warm(), named(plane(), "a_low"), named(plane(2), "a_high")
    maps = ["occlusion", "curvature", "thickness", "position"]
    recipe = Recipe(
        reach=Reach(unit="scene", outward=0.02, inward=0.02),
        sheet=Sheet(width=16, height=16, samples=1),
        output=Output(maps=maps, depth=16),
        occlusion=Occlusion(rays=16),
    )
    roof = named(upside_down(moved(plane(1, size=9.0), (-4, -4, 0.1))), "a_high_roof")
    floating = recipe.model_copy(update={"pairing": Pairing(placed={"a_high_roof/a_high_roof": Placing(role="float")})})
    for given, highs in (
        (recipe, [floor, roof]),
        (floating, [floor, roof]),
        (recipe, [named(plane(40), "a_high")]),
        (recipe, [floor]),
    ):
        meshes = BakeMeshes([], [], [low, *highs])
        kept, fresh = bake(given, meshes, warm=warm), bake(given, meshes)
        for key in maps:
            assert kept.images[key].tobytes() == fresh.images[key].tobytes()


def test_a_scene_is_lent_to_shade_where_building_another_takes_longer_than_its_rays_gain(monkeypatch):
    made = baked(torus(20, 10), torus(60, 30), ["occlusion"], occlusion=Occlusion(rays=64, noise=0))
    assert not of_piece.lends(made.assembly, made.sculpt)
    assert len(made.sculpt.mesh.triangles) < of_piece.LENT * 48 * 48 * 64
    monkeypatch.setattr(of_piece, "LENT", 0.0)
    monkeypatch.setattr(of_piece, "Scene", None)  # none is built
    lent = baked(torus(20, 10), torus(60, 30), ["occlusion"], occlusion=Occlusion(rays=64, noise=0))
    assert abs(values(lent, "occlusion") - values(made, "occlusion")).max() < 0.02  # a ray of one texel at most
