"""Tiles that repeat: what pokes over one border is seen at the other, and a tile that is cut elsewhere is the same."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.maps.denoise import denoised
from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings.maps import Occlusion
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import grid_mesh, plane, torus
from ..maps.test_light import ball

SIZE = 64


def tile(shift=0.0):
    """Two waves a tile each way, and a stone that pokes over the right border; cut `shift` of a tile further left."""

    def waves(u, v):
        return u, v, 0.02 * np.sin(4 * np.pi * (u - shift)) * np.cos(4 * np.pi * v)

    stone = ball(0.12, (0.98 + shift if shift < 0.02 else shift - 0.02, 0.5, 0.03), "stone")
    ground = grid_mesh(64, 64, waves, "ground")
    return merge([replace(ground, uvs=()), replace(stone, uvs=())], "high")


def recipe_of(repeat):
    return Recipe(
        reach=Reach(unit="scene", outward=0.3, inward=0.3),
        output=Output(maps=["normal", "height", "occlusion", "sheet_occlusion"], depth=16),
        sheet=Sheet(width=SIZE, height=SIZE, samples=4, padding=0, repeat=repeat),
        occlusion=Occlusion(rays=256, noise=0, distance=20, falloff="linear"),
    )


def made_of(high, repeat, **occlusion):
    recipe = recipe_of(repeat)
    recipe = recipe.model_copy(update={"occlusion": recipe.occlusion.model_copy(update=occlusion)})
    images = bake(recipe, BakeMeshes([plane()], [high])).images
    return {key: image.astype(np.float64) / 65535 for key, image in images.items()}


def test_a_tile_that_is_cut_elsewhere_is_the_same_picture_moved():
    here, there = made_of(tile(), "both"), made_of(tile(0.5), "both")
    for key, most, usual in (
        ("normal", 0.03, 1e-3),
        ("height", 1e-3, 1e-5),
        ("occlusion", 0.1, 0.01),
        ("sheet_occlusion", 0.02, 1e-3),
    ):
        off = np.abs(np.roll(here[key], SIZE // 2, axis=1) - there[key])
        assert np.median(off) < usual, key
        assert np.percentile(off, 99) < most, key
    off = np.roll(here["sheet_occlusion"], SIZE // 2, axis=1) - there["sheet_occlusion"]
    assert np.abs(off).max() < 1e-3  # the borders of either among them


def test_few_rays_are_smoothed_over_the_borders_as_where_none_is():
    rough = np.random.default_rng(3).random((SIZE, SIZE), np.float32)

    def smoothed(shift):
        context = bake(recipe_of("both"), BakeMeshes([plane()], [tile(shift)])).sheets[0].context
        values = np.roll(rough, SIZE // 2, axis=1) if shift else rough
        return denoised(values, context, lambda share: None, lambda: False)

    off = np.abs(np.roll(smoothed(0.0), SIZE // 2, axis=1) - smoothed(0.5))
    assert np.percentile(off, 99) < 0.01
    assert off[:, SIZE // 2 - 1 : SIZE // 2 + 1].mean() < 5e-3  # where one of them has its borders


def test_what_pokes_over_one_border_is_seen_at_the_other_only_along_the_way_that_repeats():
    alone, along, across = (made_of(tile(), repeat)["height"][..., 0] for repeat in ("none", "u", "v"))
    middle = SIZE // 2
    assert along[middle, 1] > alone[middle, 1] + 0.1  # the stone's other half
    assert across[middle, 1] == pytest.approx(alone[middle, 1], abs=1e-4)
    np.testing.assert_allclose(along[:, 20:44], alone[:, 20:44], atol=1e-4)
    step = np.abs(along[:, 0] - along[:, -1])
    assert step.max() < 1.5 * np.abs(np.diff(along, axis=1)).max()  # the border is no edge
    assert np.abs(alone[:, 0] - alone[:, -1]).max() > 1.5 * np.abs(np.diff(along, axis=1)).max()


def test_copies_are_cut_half_a_tile_beyond_and_their_seams_are_closed():
    warm, high = Warm(), replace(tile(), normals=None)
    assembly = assemble(recipe_of("both"), BakeMeshes([plane()], [high]), warm)
    sculpt = warm.sculpt(assembly)
    low, top = sculpt.mesh.bounds
    assert (low[:2] > -0.65).all()
    assert (top[:2] < 1.65).all()
    ground = sculpt.mesh.triangles[sculpt.mesh.objects == 0]
    places = sculpt.mesh.positions[ground].reshape(-1, 3)
    at_border = places[np.abs(places[:, 0] - 1) < 1e-3]
    assert len(np.unique(at_border[:, 0])) == 1  # neighbours share their border to the bit
    again = assemble(recipe_of("both"), BakeMeshes([plane()], [high]), warm)
    assert warm.sculpt(again) is not None
    assert set(sculpt.mesh.object_names) == {"ground", "stone"}


def test_a_low_that_is_no_flat_tile_is_named():
    with pytest.raises(InputProblem, match="do not lay it out as a flat tile"):
        bake(recipe_of("u"), BakeMeshes([torus(16, 8)], [torus(64, 32)]))
