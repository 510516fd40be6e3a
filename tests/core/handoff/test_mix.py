"""Mixes of pictures that were baked apart."""

import cv2
import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.handoff.mix import detail_over, inside_mask, mix_files, multiplied, stacked
from inkwell_cast.core.images import SUFFIXES, png, read_picture, write_picture
from inkwell_cast.core.images.size import size_of
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import grid_mesh, plane

FLAT = np.full((8, 8, 3), (0.5, 0.5, 1), np.float32)


def leaning(x, y):
    n = np.array([x, y, 1.0]) / np.sqrt(x * x + y * y + 1)
    return np.full((8, 8, 3), 0.5 * n + 0.5, np.float32)


def test_a_detail_over_a_flat_map_and_a_flat_detail_change_nothing():
    np.testing.assert_allclose(detail_over([FLAT, leaning(0.3, -0.2)]), leaning(0.3, -0.2), atol=1e-6)
    np.testing.assert_allclose(detail_over([leaning(0.3, -0.2), FLAT]), leaning(0.3, -0.2), atol=1e-6)


def test_a_detail_is_turned_as_its_surface_is():
    """Two leans along one axis add as angles."""
    both = detail_over([leaning(np.tan(0.3), 0), leaning(np.tan(0.2), 0)])
    np.testing.assert_allclose(both, leaning(np.tan(0.5), 0), atol=1e-6)


def test_two_baked_reliefs_mix_to_nearly_that_of_their_sum():
    def normal(height):
        high = grid_mesh(200, 200, lambda u, v: (u, v, height(u, v)), "high")
        recipe = Recipe(
            reach=Reach(unit="scene", outward=0.2, inward=0.2),
            sheet=Sheet(width=64, height=64),
            output=Output(depth=16),
        )
        return png.dequantise(bake(recipe, BakeMeshes([plane()], [high])).images["normal"])

    def waves(u, v):
        return 0.02 * np.sin(8 * u)

    def grain(u, v):
        return 0.003 * np.sin(50 * v)

    mixed = detail_over([normal(waves), normal(grain)])
    whole = normal(lambda u, v: waves(u, v) + grain(u, v))
    assert np.abs(mixed - whole).mean() < 0.003


def test_masks_choose_and_shades_multiply():
    mask = np.zeros((8, 8, 3), np.float32)
    mask[:, 4:] = 1
    mixed = inside_mask([FLAT, leaning(0.5, 0), mask])
    np.testing.assert_allclose(mixed[:, :4], FLAT[:, :4], atol=1e-6)
    np.testing.assert_allclose(mixed[:, 4:], leaning(0.5, 0)[:, 4:], atol=1e-6)
    assert multiplied([FLAT * 0 + 0.5, FLAT * 0 + 0.25]) == pytest.approx(np.full((8, 8, 3), 0.125))
    both = stacked([FLAT, 1 - mask, leaning(0.5, 0), mask])
    np.testing.assert_allclose(both, mixed, atol=1e-6)


def test_nothing_shows_where_no_mask_is_white():
    mask = np.zeros((8, 8, 3), np.float32)
    mask[:4] = 1
    made = stacked([FLAT, mask])
    np.testing.assert_array_equal(made[:4], FLAT[:4])
    assert made[4:].max() == 0


def test_grey_pictures_stay_grey(tmp_path):
    for name in ("a.png", "b.png"):
        write_picture(tmp_path / name, "png", np.full((8, 8, 1), 128, np.uint8))
    mix_files("multiply", [tmp_path / "a.png", tmp_path / "b.png"], tmp_path / "made.png")
    assert cv2.imread(str(tmp_path / "made.png"), cv2.IMREAD_UNCHANGED).shape == (8, 8)
    write_picture(tmp_path / "b.png", "png", np.full((8, 8, 3), (128, 0, 128), np.uint8))
    mix_files("multiply", [tmp_path / "a.png", tmp_path / "b.png"], tmp_path / "made.png")
    assert cv2.imread(str(tmp_path / "made.png"), cv2.IMREAD_UNCHANGED).shape == (8, 8, 3)


@pytest.mark.parametrize("suffix", [".png", ".tga", ".tif", ".exr", ".jpg"])
def test_a_picture_tells_its_size_before_it_is_decoded(tmp_path, suffix, monkeypatch):
    name = next(n for n, s in SUFFIXES.items() if s == suffix)
    values = np.zeros((5, 9, 3), np.float16 if name == "exr" else np.uint8)
    write_picture(tmp_path / f"a{suffix}", name, values)
    assert size_of(tmp_path / f"a{suffix}") == (9, 5)
    monkeypatch.setattr("inkwell_cast.core.images.size.LONGEST_SIDE", 8)
    with pytest.raises(InputProblem, match="9 x 5 pixels; 8 on a side"):
        read_picture(tmp_path / f"a{suffix}")
    monkeypatch.undo()
    monkeypatch.setattr("inkwell_cast.core.images.size.free", lambda: 1000)
    with pytest.raises(InputProblem, match="of memory here"):
        read_picture(tmp_path / f"a{suffix}")


def test_files_are_mixed_and_what_does_not_fit_is_told(tmp_path):
    def written(name, side=8, depth=8):
        write_picture(tmp_path / name, "png", png.quantise(np.full((side, side, 1), 0.5, np.float32), depth))
        return tmp_path / name

    mix_files("multiply", [written("a.png"), written("b.png", depth=16)], tmp_path / "made.tif")
    made = read_picture(tmp_path / "made.tif")
    assert made.dtype == np.uint16
    assert made[0, 0, 0] / 65535 == pytest.approx(0.25, abs=2e-3)
    with pytest.raises(InputProblem, match=r"c\.png.*It is 9 x 9, but a\.png is 8 x 8"):
        mix_files("multiply", [tmp_path / "a.png", written("c.png", 9)], tmp_path / "made.png")
    with pytest.raises(InputProblem, match="3 pictures were given"):
        mix_files("detail", [tmp_path / "a.png"] * 3, tmp_path / "made.png")
