"""The recipe: ranges, reasons, units, the proof."""

import pytest
from pydantic import ValidationError

from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet


@pytest.mark.parametrize(
    "settings",
    [
        {"sheet": {"width": 8}},
        {"sheet": {"height": 17000}},
        {"sheet": {"samples": 3}},
        {"sheet": {"padding": "lots"}},
        {"reach": {"outward": -1}},
        {"output": {"maps": []}},
        {"output": {"maps": ["colour"]}},
        {"output": {"depth": 12}},
        {"basis": {"green": "left"}},
        {"cage": {}},
    ],
)
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


def test_what_a_proof_shrank_comes_back_with_its_settings():
    """Every number of rays is one of the recipe's, not only those of a map that someone thought of."""
    whole = Recipe(sheet=Sheet(width=2048, height=1024, samples=16))
    whole = whole.with_rays({which: 96 + n for n, which in enumerate(whole.rays)})
    assert {group for group, _ in whole.rays} >= {"occlusion", "thickness", "glow", "light", "rounded"}
    proof = whole.proof()
    assert max(proof.rays.values()) <= 16
    assert proof.as_large_as(whole) == whole


@pytest.mark.parametrize(("padding", "texels"), [("auto", 4), ("fill", 768), (0, 0), (7, 7)])
def test_padding_in_texels(padding, texels):
    assert Sheet(width=512, height=256, padding=padding).padding_texels(512, 256) == texels
