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
        reach=Reach(unit="scene", outward=0.2, inward=0.2), sheet=Sheet(width=SIZE, height=SIZE, samples=4, padding=0),
        output=Output(maps=["decals"], depth=16), decals=Decals(border=border, **more),
    )  # fmt: skip
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
