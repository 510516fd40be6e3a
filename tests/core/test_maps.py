"""Maps against closed forms: each value is known for the shape that is baked."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.assembly import BakeMeshes, Warm
from inkwell_cast.core.bake import bake
from inkwell_cast.core.gather.curvature import curvature_of
from inkwell_cast.core.images import read_picture
from inkwell_cast.core.map_settings import Curvature, Height, Ids, Occlusion, SheetOcclusion, Thickness
from inkwell_cast.core.maps.ids import colors_of
from inkwell_cast.core.mesh import Layer, Mesh, merge
from inkwell_cast.core.recipe import Basis, Output, Reach, Recipe, Sheet

from ..shapes import cube, grid_mesh, plane, torus


def baked(low, highs, maps, size=48, samples=1, outward=0.3, inward=0.3, warm=None, **groups):
    recipe = Recipe(
        reach=Reach(unit="scene", outward=outward, inward=inward),
        sheet=Sheet(width=size, height=size, samples=samples, padding=0),
        output=Output(maps=maps, depth=16),
        **groups,
    )
    return bake(recipe, BakeMeshes([low], highs if isinstance(highs, list) else [highs]), warm=warm)


def values(result, key):
    """A map as values from 0 to 1, grey ones (H, W)."""
    image = result.images[key].astype(np.float64) / 65535
    return image[..., 0] if image.shape[2] == 1 else image


def facts(result, key):
    return result.sheets[0].facts[key]


def upside_down(mesh):
    return replace(mesh, triangles=mesh.triangles[:, ::-1].copy(), normals=None, uvs=())


def moved(mesh, by, scale=(1, 1, 1)):
    return replace(mesh, positions=(mesh.positions * np.array(scale) + np.array(by)).astype(np.float32))


@pytest.mark.parametrize("height", [0.05, 0.4])
def test_occlusion_between_two_planes_is_the_view_factor_of_the_ceiling(height):
    """A point under the middle of a square ceiling of side 2 a at height h sees it with the factor of a square.

    F = (4 / pi) X / sqrt(1 + X^2) atan(X / sqrt(1 + X^2)) with X = a / h: J. Howell, catalogue of view factors, B-4.
    """
    ceiling = upside_down(moved(plane(1, size=2.0, name="ceiling"), (-0.5, -0.5, height)))
    floor = plane(4, name="floor")
    result = baked(
        plane(), merge([floor, ceiling], "high"), ["occlusion"], size=17, outward=0.02, inward=0.02,
        occlusion=Occlusion(rays=1024),
    )  # fmt: skip
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
    result = baked(sides[0], high, ["occlusion"], size=32, outward=1e-3, inward=1e-3, occlusion=Occlusion(rays=1024))
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
        plane(), merge([plane(2, name="floor"), ceiling], "high"), ["occlusion"], size=16, outward=0.02, inward=0.02,
        occlusion=Occlusion(rays=1024, distance=d, falloff=falloff),
    )  # fmt: skip
    c = np.linspace(h / d, 1, 200_001)
    share = np.trapezoid((1 - h / (d * c)) ** power * 2 * c, c)
    assert values(result, "occlusion")[8, 8] == pytest.approx(1 - share, abs=0.01)


def test_a_narrow_cone_sees_past_a_wall_and_an_open_plane_is_white():
    wall = replace(cube(name="wall"), uvs=(), normals=None)
    wall = moved(wall, (-0.51, 0.5, 0), (1, 4, 1))
    high = merge([replace(plane(4), uvs=()), wall], "high")
    wide, narrow = (
        values(
            baked(plane(), high, ["occlusion"], outward=1e-3, inward=1e-3, occlusion=Occlusion(rays=256, cone=cone)),
            "occlusion",
        )
        for cone in (180, 40)
    )
    assert wide[24, 1] == pytest.approx(0.5, abs=0.05)
    assert narrow[24, 24] == 1
    assert (values(baked(plane(), plane(4), ["occlusion"]), "occlusion") == 1).all()


def test_floaters_and_other_pairs_cast_no_shade_unless_asked():
    def named(mesh, name):
        return replace(mesh, name=name, object_names=(name,))

    ceiling = upside_down(moved(plane(1, size=9.0), (-4, -4, 0.1)))
    floor, low = named(plane(2), "a_high"), named(plane(), "a_low")
    for name, occluders, dark in (
        ("a_high_roof", "pair", True), ("a_float_roof", "pair", False), ("b_high", "pair", False),
        ("b_high", "piece", True), ("a_high_roof", "low", False),
    ):  # fmt: skip
        meshes = BakeMeshes([], [], [low, floor, named(ceiling, name), named(moved(plane(), (50, 0, 0)), "b_low")])
        recipe = Recipe(
            reach=Reach(unit="scene", outward=0.02, inward=0.02),
            sheet=Sheet(width=16, height=16, samples=1),
            output=Output(maps=["occlusion"]),
            occlusion=Occlusion(rays=64, occluders=occluders),
        )
        free = bake(recipe, meshes).images["occlusion"][8, 8, 0]
        assert (free < 30) == dark, (name, occluders, free)


def test_the_bent_normal_in_a_corner_leans_out_of_it():
    """At the foot of a high wall half the sky is free: the mean of its cosine-weighted directions leans by (4 / 3pi)."""
    wall = replace(cube(name="wall"), uvs=(), normals=None)
    wall = moved(wall, (-50, 0.5, 0), (100, 200, 200))
    high = merge([replace(plane(4), uvs=()), wall], "high")
    result = baked(plane(), high, ["bent"], size=64, outward=1e-4, inward=1e-4, occlusion=Occlusion(rays=1024))
    bent = values(result, "bent")[32, 0] * 2 - 1
    lean = np.degrees(np.arctan2(bent[0], bent[2]))
    assert lean == pytest.approx(np.degrees(np.arctan((4 / (3 * np.pi)) / (2 / 3))), abs=1.5)
    assert abs(bent[1]) < 0.02


@pytest.mark.parametrize("samples", [1, 4])
def test_a_slab_is_as_thick_as_its_rays_are_long(samples):
    """Cosine-weighted rays cross a slab h thick in 2 h in the mean; with a limit L in h (2 - h / L)."""
    top, bottom = plane(2, size=60.0), upside_down(plane(2, -0.5, size=60.0, name="bottom"))
    high = merge([moved(top, (-30, -30, 0)), moved(bottom, (-30, -30, 0))], "high")
    high = replace(high, uvs=())
    result = baked(
        plane(), high, ["thickness"], samples=samples, outward=0.01, inward=0.01,
        thickness=Thickness(rays=1024, limit=4.0),
    )  # fmt: skip
    mean = values(result, "thickness").mean() * facts(result, "thickness")["white"]
    assert mean == pytest.approx(0.5 * (2 - 0.5 / 4.0), rel=0.01)


def test_a_ball_is_four_thirds_of_its_radius_thick():
    low, high = ball(24), ball(200)
    result = baked(low, high, ["thickness"], thickness=Thickness(rays=512, limit=3.0))
    found = values(result, "thickness")[8:40, 8:40] * 3
    assert found.mean() == pytest.approx(4 / 3, rel=0.01)


def ball(cells, radius=1.0):
    def point(u, v):
        a, b = np.where(u == 1, 0, u) * 2 * np.pi, v * np.pi
        return radius * np.sin(b) * np.cos(a), radius * np.sin(b) * np.sin(a), -radius * np.cos(b)

    mesh = grid_mesh(2 * cells, cells, point, "ball", lambda u, v: [p / radius for p in point(u, v)])
    p = mesh.positions[mesh.triangles]
    flat = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1) < 1e-9
    keep = ~flat
    return Mesh(
        mesh.name, mesh.positions, mesh.triangles[keep],
        normals=Layer(mesh.normals.values, mesh.normals.corners[keep]),
        uvs=(Layer(mesh.uvs[0].values, mesh.uvs[0].corners[keep]),),
    )  # fmt: skip


@pytest.mark.parametrize("radius", [0.0, 0.3])
def test_the_curvature_of_a_ball_is_one_over_its_radius(radius):
    found, _ = curvature_of(ball(80, 2.5), radius)
    assert found == pytest.approx(np.full(found.shape, 0.4), rel=0.02)


def test_the_curvature_of_a_torus_and_of_a_cylinder():
    """Mean curvature of a torus: (R + 2 r cos b) / (2 r (R + r cos b)); a cylinder is r = big R: 1 / 2r."""
    mesh = torus(360, 180)
    found, corners = curvature_of(mesh, 0.0)
    points = mesh.positions[mesh.triangles].reshape(-1, 3)
    c = (np.hypot(points[:, 0], points[:, 1]) - 2.0) / 0.7
    expected = (2 + 2 * 0.7 * c) / (2 * 0.7 * (2 + 0.7 * c))
    np.testing.assert_allclose(found[corners.reshape(-1), 0], expected, rtol=0.02)
    thin, _ = curvature_of(torus(720, 60, big=200.0), 0.0)
    assert thin == pytest.approx(np.full(thin.shape, 1 / 1.4), rel=0.02)


def test_curvature_does_not_follow_the_pattern_of_triangles_and_has_no_seam():
    rng = np.random.default_rng(4)
    flat = plane(60)
    shaken = flat.positions.copy()
    inner = (np.abs(shaken[:, :2] - 0.5) < 0.49).all(axis=1)
    shaken[inner, :2] += rng.uniform(-0.006, 0.006, (inner.sum(), 2))
    assert np.abs(curvature_of(replace(flat, positions=shaken.astype(np.float32), normals=None), 0)[0]).max() < 1e-4
    result = baked(
        torus(24, 12), torus(200, 100), ["curvature"], size=64, curvature=Curvature(radius=0.0, strength=2.0)
    )
    image = values(result, "curvature")
    np.testing.assert_allclose(image[:, 0], image[:, -1], atol=0.01)  # both sides of the seam


def test_curvature_by_sign_and_automatic_strength():
    low, high = torus(24, 12), torus(200, 100)
    both, convex, concave = (
        baked(low, high, ["curvature"], curvature=Curvature(radius=0.0, signs=s)) for s in ("both", "convex", "concave")
    )
    full = facts(both, "curvature")["white"]
    assert full == pytest.approx((2 + 1.4) / (1.4 * 2.7), rel=0.03)  # the outer rim is where a torus bends most
    assert 0 <= facts(both, "curvature")["clipped_share"] <= 0.021
    np.testing.assert_allclose(values(convex, "curvature"), np.clip(values(both, "curvature") * 2 - 1, 0, 1), atol=1e-4)
    assert values(concave, "curvature").max() == pytest.approx(0, abs=1e-4)


def test_height_is_exact_and_symmetric_about_mid_grey():
    def step(u, v):
        return u, v, np.where(u < 0.5, 0.25, -0.15)

    result = baked(plane(), grid_mesh(400, 2, step, "high"), ["height"])
    assert facts(result, "height")["white"] == pytest.approx(0.25, rel=1e-5)
    assert facts(result, "height")["black"] == pytest.approx(-0.25, rel=1e-5)
    image = values(result, "height")
    assert (image[:, 2], image[:, 40]) == (pytest.approx(1, abs=2e-5), pytest.approx(0.5 - 0.3, abs=2e-5))
    fixed = baked(plane(), grid_mesh(400, 2, step, "high"), ["height"], height=Height(range=0.2))
    assert facts(fixed, "height")["clipped_share"] == pytest.approx(0.5, abs=0.02)
    assert values(fixed, "height").max() == 1


def test_position_is_where_a_texel_s_hit_lies_in_the_box():
    result = baked(plane(), grid_mesh(50, 50, lambda u, v: (u, v, 0.2 * u), "high"), ["position"])
    y, x = np.mgrid[0:48, 0:48]
    u, v = (x + 0.5) / 48, 1 - (y + 0.5) / 48
    np.testing.assert_allclose(values(result, "position"), np.stack([u, v, u], axis=-1), atol=1e-4)
    assert facts(result, "position")["white"] == pytest.approx([1, 1, 0.2])


def test_a_perforated_plate_is_as_open_as_its_holes():
    """One square hole of a third by a quarter."""

    def kept(mesh):
        centre = mesh.positions[mesh.triangles].mean(axis=1)
        hole = (abs(centre[:, 0] - 0.5) < 1 / 6) & (abs(centre[:, 1] - 0.5) < 1 / 8)
        return Mesh(mesh.name, mesh.positions, mesh.triangles[~hole])

    result = baked(plane(), kept(plane(24, 0.1, name="high")), ["opacity"], size=100, samples=16)
    assert facts(result, "opacity")["open_share"] == pytest.approx(1 / 12, abs=0.002)
    assert values(result, "opacity")[50, 50] == 0
    assert values(result, "opacity")[5, 5] == 1


def two_colors(by):
    left = replace(grid_mesh(1, 1, lambda u, v: (0.37 * u, v, 0.1 + 0 * u)), name="left", object_names=("left",))
    right = replace(
        grid_mesh(1, 1, lambda u, v: (0.37 + 0.63 * u, v, 0.1 + 0 * u)), name="right", object_names=("right",)
    )
    high = replace(merge([left, right], "high"), material_names=("oak", "brass"), uvs=())
    color = np.repeat([[1, 0, 0, 1], [0, 0, 1, 1]], [6, 6], axis=0).astype(np.float32)
    high = replace(high, colors=Layer(color, np.arange(12, dtype=np.int32).reshape(4, 3)))
    return baked(plane(), high, ["ids", "color"], size=50, samples=16, ids=Ids(by=by, colors={"oak": "#102030"}))


@pytest.mark.parametrize(("by", "names"), [
    ("material", ["oak", "brass"]), ("object", ["left", "right"]), ("part", ["left 1", "right 1"]),
    ("color", ["#ff0000", "#0000ff"]), ("pair", ["everything"]), ("file", ["high"]),
])  # fmt: skip
def test_ids_are_flat_colours_with_a_legend(by, names):
    result = two_colors(by)
    legend = facts(result, "ids")["legend"]
    assert sorted(legend) == sorted(names)
    image = np.rint(values(result, "ids") * 255).astype(int)
    found = {f"#{r:02x}{g:02x}{b:02x}" for r, g, b in image.reshape(-1, 3).tolist()}
    assert found == set(legend.values())  # no colour is a mixture of two
    if len(names) == 2:
        border = (image != image[:, :1]).any(axis=2).argmax(axis=1)
        assert np.abs(border - 0.37 * 50).max() <= 0.5
    if by == "material":
        assert legend["oak"] == "#102030"


def test_colours_follow_from_names_and_stay_apart():
    names = tuple(f"part {n}" for n in range(30))
    few, many = colors_of(names[:10], {}), colors_of(names, {})
    assert few == {name: many[name] for name in names[:10]}
    assert len(set(many.values())) == 30
    assert colors_of(("a",), {"a": "#123456"}) == {"a": "#123456"}


def test_vertex_colours_are_carried_as_srgb():
    image = values(two_colors("material"), "color")
    np.testing.assert_allclose(image[25, 5], [1, 0, 0], atol=1e-4)
    grey = replace(plane(), colors=Layer(np.full((1, 4), 0.2140411, np.float32), np.zeros((2, 3), np.int32)))
    assert values(baked(plane(), grey, ["color"]), "color")[5, 5] == pytest.approx([0.5] * 3, abs=1e-4)


def test_a_map_added_later_reuses_the_cast_and_equals_one_baked_at_once():
    low, high, warm = torus(24, 12), torus(120, 60, small=0.72), Warm()
    settings = {"occlusion": Occlusion(rays=8), "size": 64}
    first = baked(low, high, ["normal"], warm=warm, **settings)
    recipe = first.recipe.model_copy(update={"output": Output(maps=["normal", "occlusion", "ids"], depth=16)})
    later = bake(recipe, BakeMeshes([low], [high]), warm=warm)
    assert later.cast is first.cast
    assert "casting rays" not in later.seconds or later.seconds["casting rays"] == 0
    assert later.seconds["casting occlusion"] > 0
    at_once = baked(low, high, ["normal", "occlusion", "ids"], **settings)
    for key in ("normal", "occlusion", "ids"):
        assert later.images[key].tobytes() == at_once.images[key].tobytes()


@pytest.mark.parametrize("change", [
    {"basis": Basis(green="down")}, {"height": Height(range=0.01)}, {"curvature": Curvature(radius=0.3, strength=1.0)},
    {"ids": Ids(by="material", colors={"no material": "#ff00ff"})}, {"output": Output(maps=["normal", "curvature", "ids", "height"], depth=8)},
])  # fmt: skip
def test_what_no_ray_heeds_is_changed_without_one(change):
    low, high, warm = torus(24, 12), torus(120, 60, small=0.72), Warm()
    first = baked(low, high, ["normal", "curvature", "ids", "height"], warm=warm)
    again = bake(first.recipe.model_copy(update=change), BakeMeshes([low], [high]), warm=warm)
    assert again.cast is first.cast
    assert not any(name.startswith("casting ") for name in again.seconds)
    assert any(again.images[key].tobytes() != first.images[key].tobytes() for key in first.images)


def test_bands_give_the_same_maps_as_a_whole(monkeypatch):
    low, high = torus(24, 12), torus(120, 60, small=0.72)
    maps, settings = ["normal", "occlusion", "position"], {"occlusion": Occlusion(rays=8), "size": 100}
    whole = baked(low, high, maps, **settings)
    monkeypatch.setattr("inkwell_cast.core.cast.MOST_SAMPLES", 4000)
    warm = Warm()
    parts = baked(low, high, maps[:2], warm=warm, **settings)
    recipe = parts.recipe.model_copy(update={"output": Output(maps=maps, depth=16)})
    parts = bake(recipe, BakeMeshes([low], [high]), warm=warm)  # position is gathered by tracing again
    for key in maps:
        assert parts.images[key].tobytes() == whole.images[key].tobytes()


def test_denoised_occlusion_comes_closer_to_the_truth():
    low, high = torus(24, 12), moved(torus(120, 60), (0, 0, 0))
    lid = upside_down(moved(plane(1, size=9.0, name="lid"), (-4.5, -4.5, 0.75)))
    high = merge([replace(high, uvs=()), replace(lid, uvs=())], "high")
    truth, rough, smooth = (
        values(baked(low, high, ["occlusion"], size=96, outward=0.02, inward=0.05, occlusion=o), "occlusion")
        for o in (Occlusion(rays=1024), Occlusion(rays=16), Occlusion(rays=16, denoise=True))
    )
    error = [np.sqrt(((image - truth) ** 2).mean()) for image in (rough, smooth)]
    assert error[1] < 0.5 * error[0]


def groove(depth, half):
    """A plane with a round groove along y in the middle, `half` wide to either side."""

    def point(u, v):
        inside = np.clip(1 - ((u - 0.5) / half) ** 2, 0, 1)
        return u, v, -depth * inside

    return grid_mesh(400, 4, point, "high")


def test_quick_occlusion_of_a_groove_is_near_that_of_rays_and_a_plane_is_white():
    maps = ["occlusion", "sheet_occlusion"]
    result = baked(
        plane(), groove(0.05, 0.1), maps, size=128, outward=0.01, inward=0.3, occlusion=Occlusion(rays=256),
        sheet_occlusion=SheetOcclusion(radius=20),
    )  # fmt: skip
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


def test_a_mask_for_each_id_is_white_where_its_colour_stands(tmp_path):
    made = two_colors("object")
    made = bake(made.recipe.model_copy(update={"ids": Ids(by="object", masks=True)}), meshes_of(made))
    manifest = made.save(tmp_path)
    masks = {m.key: read_picture(tmp_path / m.file)[..., 0] for m in manifest.maps if m.key.startswith("mask:")}
    assert set(masks) == {"mask:left", "mask:right"}
    assert (masks["mask:left"].astype(int) + masks["mask:right"] == 65535).all()
    assert masks["mask:left"][25, 5] == 65535


def meshes_of(result):
    return BakeMeshes([], [], list(result.assembly.files.values()))


def test_occlusion_of_highs_and_lows_is_multiplied():
    ceiling = upside_down(moved(plane(1, size=9.0), (-4, -4, 0.1)))
    low = merge([plane(), replace(ceiling, uvs=plane().uvs)], "low")
    high = merge([plane(2, name="floor"), ceiling], "high")
    free = [
        values(
            baked(low, high, ["occlusion"], size=16, outward=0.02, inward=0.02,
                  occlusion=Occlusion(rays=64, distance=0.2, falloff="linear", occluders=which)), "occlusion",
        )[8, 8]
        for which in ("pair", "low", "pair x low")
    ]  # fmt: skip
    assert 0.2 < free[0] < 0.9
    assert free[2] == pytest.approx(free[0] * free[1], abs=1e-4)
