"""Pictures, recipes, checks and the form that the browser draws."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from inkwell_cast.core.bake import refusals
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.checks import check
from inkwell_cast.core.images import png, write_picture
from inkwell_cast.core.mesh.binary_message import unpack
from inkwell_cast.core.mesh.mesh import CornerValues, Mesh
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.review import display_meshes
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.demo import inkstand

from ..shapes import cube, plane, torus


@pytest.mark.parametrize("depth", [8, 16])
def test_png_keeps_every_step(depth, tmp_path):
    steps = np.random.default_rng(depth).integers(0, 2**depth, (33, 20, 3))
    steps = steps.astype(np.uint8 if depth == 8 else np.uint16)
    png.write(tmp_path / "x.png", steps)
    found = png.read(tmp_path / "x.png")
    assert found.dtype == steps.dtype
    np.testing.assert_array_equal(found, steps)


@settings(max_examples=60, deadline=None)
@given(st.lists(st.floats(-0.5, 1.5, width=32), min_size=3, max_size=30), st.sampled_from([8, 16]))
def test_quantising_is_right_to_half_a_step_and_stable(values, depth):
    image = np.array(values[: len(values) // 3 * 3], np.float32).reshape(1, -1, 3)
    steps = png.quantise(image, depth)
    back = png.dequantise(steps)
    assert np.abs(back - np.clip(image, 0, 1)).max() <= 0.5001 / (2**depth - 1)
    np.testing.assert_array_equal(png.quantise(back, depth), steps)


def test_png_problems_are_told(tmp_path):
    with pytest.raises(InputProblem, match="cannot be read"):
        png.read(tmp_path / "nothing.png")
    (tmp_path / "noise.png").write_bytes(b"noise")
    with pytest.raises(InputProblem, match="not a PNG"):
        png.read(tmp_path / "noise.png")
    with pytest.raises(InputProblem, match="could not be written"):
        write_picture(tmp_path / "no" / "folder.png", "png", np.zeros((16, 16, 3), np.uint8))


@pytest.mark.parametrize(
    "settings",
    [
        {"sheet": {"width": 8}}, {"sheet": {"height": 17000}}, {"sheet": {"samples": 3}}, {"sheet": {"padding": "lots"}},
        {"reach": {"outward": -1}}, {"output": {"maps": []}}, {"output": {"maps": ["colour"]}}, {"output": {"depth": 12}},
        {"basis": {"green": "left"}}, {"cage": {}},
    ],
)  # fmt: skip
def test_recipes_refuse_what_is_out_of_range(settings):
    with pytest.raises(ValidationError):
        Recipe.model_validate(settings)


def test_every_setting_says_what_it_is_for():
    groups = [f.annotation.model_fields for f in Recipe.model_fields.values() if hasattr(f.annotation, "model_fields")]
    for group in groups:
        for name, field in group.items():
            if name == "placed":  # not a field of a form
                continue
            assert field.title, name
            assert len(field.description) > 15, name
            assert field.get_default() is not None, name
            assert "unit" in field.json_schema_extra, name


def test_recipes_come_back_from_json():
    recipe = Recipe(sheet=Sheet(width=100, padding="fill"), output=Output(maps=["normal", "normal_object"], depth=16))
    assert Recipe.model_validate_json(recipe.model_dump_json()) == recipe


def test_reach_in_both_units():
    assert Reach(unit="percent", outward=2, inward=1).in_scene_units(50) == (1, 0.5)
    assert Reach(unit="scene", outward=2, inward=1).in_scene_units(50) == (2, 1)


@pytest.mark.parametrize(
    ("width", "height", "expected"), [(2048, 1024, (512, 256)), (256, 64, (256, 64)), (8192, 16, (512, 16))]
)
def test_a_proof_is_small_and_keeps_its_shape(width, height, expected):
    proof = Recipe(sheet=Sheet(width=width, height=height, samples=16, padding=16)).proof()
    assert (proof.sheet.width, proof.sheet.height) == expected
    assert proof.sheet.samples == 4
    assert proof.proof() == proof


@pytest.mark.parametrize(("padding", "texels"), [("auto", 4), ("fill", 768), (0, 0), (7, 7)])
def test_padding_in_texels(padding, texels):
    assert Sheet(width=512, height=256, padding=padding).padding_texels(512, 256) == texels


def test_triangles_without_area_are_counted():
    points = np.array([[0, 0, 0], [1, 1, 1], [2, 2, 2], [0, 1, 0]], np.float32)
    mesh = Mesh("some", points, np.array([[0, 1, 2], [0, 1, 3], [1, 1, 3]], np.int32))
    assert refusals.zero_area(mesh) == 2
    refusals.refuse_empty(mesh)


def test_a_low_with_half_its_uvs_is_refused_by_part():
    corners = np.array([[0, 1, 2], [-1, -1, -1]], np.int32)
    mesh = Mesh(
        "two.obj", plane().positions, plane().triangles, uvs=(CornerValues(np.zeros((3, 2), np.float32), corners),),
        objects=np.array([0, 1], np.int32), object_names=("lid", "base"),
    )  # fmt: skip
    with pytest.raises(InputProblem, match=r"two\.obj, base: 1 triangles have no UVs"):
        refusals.refuse_unusable(assemble(Recipe(), BakeMeshes([mesh], [plane()])))


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


def test_an_object_without_faces_is_told_and_breaks_no_check():
    mesh = replace(torus(12, 6), name="ring.glb", object_names=("ring_low", "gone_high"))
    found = check(Recipe(), BakeMeshes([], [], [mesh, replace(torus(40, 20, name="ring_high"), name="ring_high.ply")]))
    assert any("gone_high" in finding.part for finding in found)


def test_the_demo_inkstand_is_what_it_promises():
    low, high = inkstand.build()
    assert 2_000 < len(low.triangles) < 5_000
    assert 400_000 < len(high.triangles) < 1_000_000
    assert set(low.material_names) == set(inkstand.MATERIALS)
    assert all(name.endswith("_low") for name in low.object_names)
    assert all(name.endswith("_high") or "_float_" in name for name in high.object_names)
    assert {"well_left_low", "well_right_low", "lid_left_low", "hinge_right_low", "plate_low"} <= set(low.object_names)
    uv = low.uvs[0].at_corners()
    assert uv.min() > 0
    assert uv.max() < 1
    assert low.uvs[0].complete
    np.testing.assert_allclose(low.bounds, high.bounds, atol=1.0)
