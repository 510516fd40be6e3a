"""Maps against closed forms: each value is known for the shape that is baked."""

from dataclasses import replace

import numba
import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.images import read_picture
from inkwell_cast.core.maps import curvature
from inkwell_cast.core.maps.curvature import curvature_of
from inkwell_cast.core.maps.ids import colors_of
from inkwell_cast.core.mesh.mesh import CornerValues, Mesh, merge
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings.basis import Basis
from inkwell_cast.core.settings.maps import Curvature, Height, Ids, Occlusion, Thickness
from inkwell_cast.core.settings.output import Output

from ...shapes import grid_mesh, plane, torus
from ..bakes import baked, facts, moved, upside_down, values


@pytest.mark.parametrize("samples", [1, 4])
def test_a_slab_is_as_thick_as_its_rays_are_long(samples):
    """Cosine-weighted rays cross a slab h thick in 2 h in the mean; with a limit L in h (2 - h / L)."""
    top, bottom = plane(2, size=60.0), upside_down(plane(2, -0.5, size=60.0, name="bottom"))
    high = merge([moved(top, (-30, -30, 0)), moved(bottom, (-30, -30, 0))], "high")
    high = replace(high, uvs=())
    result = baked(
        plane(),
        high,
        ["thickness"],
        samples=samples,
        outward=0.01,
        inward=0.01,
        thickness=Thickness(rays=1024, noise=0, limit=4.0, unit="scene"),
    )
    mean = values(result, "thickness").mean() * facts(result, "thickness")["white"]
    assert mean == pytest.approx(0.5 * (2 - 0.5 / 4.0), rel=0.01)


def test_a_ball_is_four_thirds_of_its_radius_thick():
    low, high = ball(24), ball(200)
    result = baked(low, high, ["thickness"], thickness=Thickness(rays=512, noise=0, limit=3.0, unit="scene"))
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
        mesh.name,
        mesh.positions,
        mesh.triangles[keep],
        normals=CornerValues(mesh.normals.values, mesh.normals.corners[keep]),
        uvs=(CornerValues(mesh.uvs[0].values, mesh.uvs[0].corners[keep]),),
    )


@pytest.mark.parametrize("radius", [0.0, 0.3])
def test_the_curvature_of_a_ball_is_one_over_its_radius(radius):
    values, corners = curvature_of(ball(80, 2.5), radius)
    np.testing.assert_allclose(values[corners], 0.4, rtol=0.02)


def test_the_curvature_of_a_torus_and_of_a_cylinder():
    """Mean curvature of a torus: (R + 2 r cos b) / (2 r (R + r cos b)); a cylinder is r = big R: 1 / 2r."""
    mesh = torus(360, 180)
    found, corners = curvature_of(mesh, 0.0)
    points = mesh.positions[mesh.triangles].reshape(-1, 3)
    c = (np.hypot(points[:, 0], points[:, 1]) - 2.0) / 0.7
    expected = (2 + 2 * 0.7 * c) / (2 * 0.7 * (2 + 0.7 * c))
    np.testing.assert_allclose(found[corners.reshape(-1), 0], expected, rtol=0.02)
    values, corners = curvature_of(torus(720, 60, big=200.0), 0.0)
    np.testing.assert_allclose(values[corners], 1 / 1.4, rtol=0.02)


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


@pytest.mark.parametrize("gathered", [False, True])
@pytest.mark.parametrize("length", [1.0, 2.0, 4.0])
def test_a_radius_evens_waves_out_as_two_steps_of_diffusion_do(length, gathered, monkeypatch):
    """A wave of the length L R keeps 1 / (1 + (2 pi / L)^2 / 8)^2 of its height, on vertices and on patches of them."""
    if not gathered:
        monkeypatch.setattr(curvature, "FINE", np.inf)
    radius, height, across = 0.05, 1e-4, 600
    k = 2 * np.pi / (length * radius)
    wave = grid_mesh(
        across,
        across // 8,
        lambda u, v: (u, v / 8, height * np.sin(k * u)),
        normal=lambda u, v: (-height * k * np.cos(k * u), 0 * u, 0 * u + 1),
    )
    inside = (abs(wave.positions[:, 0] - 0.5) < 0.3) & (abs(wave.positions[:, 1] - 1 / 16) < 0.03)
    fine, smooth = (curvature_of(wave, r)[0][:, 0][inside].std() for r in (0, radius))
    assert smooth / fine == pytest.approx((1 + (2 * np.pi / length) ** 2 / 8) ** -2, rel=0.04, abs=0.003)


def test_a_thin_wall_keeps_the_curvature_of_its_sides_apart():
    """Waves on either side of a wall that is thinner than a cell, one against the other."""
    k = 2 * np.pi / 0.4

    def side(up, z):
        return grid_mesh(
            300,
            75,
            lambda u, v: (u, v / 4 if up else (1 - v) / 4, z + 1e-4 * np.sin(k * u)),
            normal=lambda u, v: (-up * 1e-4 * k * np.cos(k * u), 0 * u, up + 0 * u),
        )

    wall = merge([side(1, 0.0), side(-1, -0.001)], "wall")
    found, corners = curvature_of(wall, 0.05)
    top = np.unique(corners[: len(corners) // 2])
    below = np.unique(corners[len(corners) // 2 :])
    assert abs(found[top, 0].std() / found[below, 0].std() - 1) < 0.1
    crest = top[np.argmax(found[top, 0])]
    assert found[crest, 0] > 0.5 * 0.5e-4 * k * k  # bends of the other side would have cancelled it


@pytest.mark.parametrize("radius", [0.0, 0.02, 0.3])  # as fine as it is, evened out, gathered into patches
def test_curvature_is_the_same_of_a_file_with_a_vertex_for_every_corner_and_for_any_threads(radius):
    whole = replace(torus(200, 100), uvs=(), normals=None)
    corners = np.arange(3 * len(whole.triangles), dtype=np.int32).reshape(-1, 3)
    split = replace(whole, positions=whole.positions[whole.triangles].reshape(-1, 3), triangles=corners)
    expected, rows = curvature_of(whole, radius)
    found, own = curvature_of(split, radius)
    np.testing.assert_allclose(found[own], expected[rows], rtol=2e-3)
    numba.set_num_threads(1)
    try:
        alone, _ = curvature_of(whole, radius)
    finally:
        numba.set_num_threads(numba.config.NUMBA_NUM_THREADS)
    np.testing.assert_array_equal(alone, expected)


def test_thickness_takes_no_more_rays_than_its_noise_asks_for():
    low, high = ball(24), ball(200)
    found = [
        values(
            baked(low, high, ["thickness"], thickness=Thickness(rays=512, noise=n, limit=3.0, unit="scene")),
            "thickness",
        )
        for n in (0.0, 0.05)
    ]
    error = np.sqrt(((found[1] - found[0])[8:40] ** 2).mean())
    assert 1e-4 < error < 0.05  # not all rays were traced, and no more than was allowed is lost


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
    high = replace(high, colors=CornerValues(color, np.arange(12, dtype=np.int32).reshape(4, 3)))
    return baked(plane(), high, ["ids", "color"], size=50, samples=16, ids=Ids(by=by, colors={"oak": "#102030"}))


@pytest.mark.parametrize(
    ("by", "names"),
    [
        ("material", ["oak", "brass"]),
        ("object", ["left", "right"]),
        ("part", ["left 1", "right 1"]),
        ("color", ["#ff0000", "#0000ff"]),
        ("pair", ["everything"]),
        ("file", ["high"]),
    ],
)
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
    grey = replace(plane(), colors=CornerValues(np.full((1, 4), 0.2140411, np.float32), np.zeros((2, 3), np.int32)))
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


@pytest.mark.parametrize(
    "change",
    [
        {"basis": Basis(green="down")},
        {"height": Height(range=0.01)},
        {"curvature": Curvature(radius=0.3, strength=1.0)},
        {"ids": Ids(by="material", colors={"no material": "#ff00ff"})},
        {"output": Output(maps=["normal", "curvature", "ids", "height"], depth=8)},
    ],
)
def test_what_no_ray_follows_is_changed_without_one(change):
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
    monkeypatch.setattr("inkwell_cast.core.cast.hits.MOST_SAMPLES", 4000)
    monkeypatch.setattr("inkwell_cast.core.cast.hits.AT_ONCE", 2000)
    warm = Warm()
    parts = baked(low, high, maps[:2], warm=warm, **settings)
    recipe = parts.recipe.model_copy(update={"output": Output(maps=maps, depth=16)})
    parts = bake(recipe, BakeMeshes([low], [high]), warm=warm)  # position is gathered by tracing again
    for key in maps:
        assert parts.images[key].tobytes() == whole.images[key].tobytes()


def test_a_mask_for_each_id_is_white_where_its_colour_stands(tmp_path):
    made = two_colors("object")
    made = bake(made.recipe.model_copy(update={"ids": Ids(by="object", masks=True)}), meshes_of(made))
    manifest = save(made, tmp_path)
    masks = {m.key: read_picture(tmp_path / m.file)[..., 0] for m in manifest.maps if m.key.startswith("mask:")}
    assert set(masks) == {"mask:left", "mask:right"}
    assert (masks["mask:left"].astype(int) + masks["mask:right"] == 65535).all()
    assert masks["mask:left"][25, 5] == 65535


def meshes_of(result):
    return BakeMeshes([], [], list(result.assembly.files.values()))
