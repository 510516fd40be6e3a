"""Where floaters lie on the low, and how they fade toward their borders."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.maps import Decals
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import plane

SIZE = 64


def decal(border, **more):
    """A square over the middle half of a plane, floating a little above it."""
    half = replace(
        plane(), uvs=(), positions=plane().positions * np.float32(0.5) + np.array([0.25, 0.25, 0.05], np.float32)
    )
    named = [
        replace(plane(), name="a_low", object_names=("a_low",)),
        replace(plane(), name="a_high", object_names=("a_high",), uvs=()),
        replace(half, name="a_float", object_names=("a_float",)),
    ]
    recipe = Recipe(
        reach=Reach(unit="scene", outward=0.2, inward=0.2),
        sheet=Sheet(width=SIZE, height=SIZE, samples=4, padding=0),
        output=Output(maps=["decals"], depth=16),
        decals=Decals(border=border, **more),
    )
    made = bake(recipe, BakeMeshes([], [], named))
    return made.images["decals"][..., 0].astype(float) / 65535, made.sheets[0].facts["decals"]


def test_a_hard_decal_is_white_where_it_lies():
    image, facts = decal(0)
    expected = np.zeros((SIZE, SIZE))
    expected[16:48, 16:48] = 1
    np.testing.assert_array_equal(image, expected)
    assert facts["decal_share"] == pytest.approx(0.25)


@pytest.mark.parametrize("border", [1, 4, 7.5])
def test_a_soft_one_fades_by_the_distance_to_what_lies_outside(border):
    image, _ = decal(border)
    middle = image[32]
    inward = np.arange(1, 17) / (border + 1)
    np.testing.assert_allclose(middle[16:32], np.clip(inward, 0, 1), atol=1e-4)
    assert (image[:16] == 0).all()
    corner = np.hypot(1, 1) / (border + 1)
    assert image[16, 16] <= min(corner, 1) + 1e-4
    assert image[32, 32] == 1


def soft_normals(below, soft=True, border=4):
    """Normals (H, W, 3) of a tilted floater over a plane, or over nothing, and its opacity; its own normal at last."""
    slope = np.float32(0.2)
    place = plane().positions * np.float32(0.5) + np.array([0.25, 0.25, 0.05], np.float32)
    place[:, 2] += slope * (place[:, 0] - np.float32(0.5))
    far = replace(plane(), name="far", uvs=(), positions=plane().positions + np.array([9, 0, 0], np.float32))
    named = [
        replace(plane(), name="a_low", object_names=("a_low",)),
        replace(plane() if below else far, name="a_high", object_names=("a_high",), uvs=()),
        replace(plane(), name="a_float", object_names=("a_float",), uvs=(), positions=place),
    ]
    recipe = Recipe(
        reach=Reach(unit="scene", outward=0.2, inward=0.2),
        sheet=Sheet(width=SIZE, height=SIZE, samples=4, padding=0),
        output=Output(maps=["normal", "height", "decals"], depth=16),
        decals=Decals(border=border, soft=soft),
    )
    made = bake(recipe, BakeMeshes([], [], named))
    values = {key: image.astype(float) / 65535 for key, image in made.images.items()}
    own = np.array([-slope, 0, 1]) / np.hypot(slope, 1)
    cast = made.sheets[0].context.cast
    return values["normal"] * 2 - 1, values["decals"], own, cast.height


@pytest.mark.parametrize("below", [True, False])
def test_soft_normals_and_heights_fade_into_what_lies_below(below):
    normals, opacity, own, height = soft_normals(below)
    expected = opacity * own + (1 - opacity) * np.array([0, 0, 1.0])
    expected /= np.linalg.norm(expected, axis=2, keepdims=True)
    inside = np.zeros((SIZE, SIZE), np.bool_)
    inside[16:48, 16:48] = True
    np.testing.assert_allclose(normals[inside], expected[inside], atol=1e-4)
    middle = 0.05 + 0.2 * ((np.arange(SIZE) + 0.5) / SIZE - 0.5)
    np.testing.assert_allclose(height[32, 16:48], (opacity[32, :, 0] * middle)[16:48], atol=1e-4)
    if below:
        np.testing.assert_allclose(normals[~inside], expected[~inside], atol=1e-4)


def test_without_it_the_floaters_own_normals_stay_up_to_their_border():
    normals, _, own, _ = soft_normals(True, soft=False)
    np.testing.assert_allclose(normals[16:48, 16:48], np.broadcast_to(own, (32, 32, 3)), atol=1e-4)


def test_soft_normals_are_laid_over_a_kept_bake_without_a_ray_more_outside():
    whole, _, _, _ = soft_normals(True)
    hard, _, _, _ = soft_normals(True, soft=False)
    assert (whole[:16] == hard[:16]).all()
    assert (whole[20:44, 20:44] == hard[20:44, 20:44]).all()


def test_a_pair_of_floaters_alone_fades_into_its_low_beside_one_that_has_a_high():
    beside = [replace(mesh, positions=mesh.positions + np.array([3, 0, 0], np.float32)) for mesh in (plane(), plane())]
    next_tile = replace(plane().uvs[0], values=plane().uvs[0].values + np.array([1, 0], np.float32))
    half = plane().positions * np.float32(0.5) + np.array([0.25, 0.25, 0.05], np.float32)
    half[:, 2] += np.float32(0.2) * (half[:, 0] - np.float32(0.5))
    named = [
        replace(plane(), name="a_low", object_names=("a_low",)),
        replace(plane(), name="a_float", object_names=("a_float",), uvs=(), positions=half),
        replace(beside[0], name="b_low", object_names=("b_low",), uvs=(next_tile,)),
        replace(beside[1], name="b_high", object_names=("b_high",), uvs=()),
    ]
    recipe = Recipe(
        reach=Reach(unit="scene", outward=0.2, inward=0.2),
        sheet=Sheet(width=SIZE, height=SIZE, samples=1, padding=0, split="tile"),
        output=Output(maps=["normal"], depth=16),
        decals=Decals(border=4, soft=True),
    )
    made = bake(recipe, BakeMeshes([], [], named))
    first, second = (sheet.images["normal"].astype(float) / 65535 * 2 - 1 for sheet in made.sheets)
    np.testing.assert_allclose(second, np.broadcast_to([0, 0, 1.0], second.shape), atol=1e-4)
    assert abs(first[32, 32, 0] + 0.2 / np.hypot(0.2, 1)) < 1e-3
    assert -0.1 < first[32, 16, 0] < 0
