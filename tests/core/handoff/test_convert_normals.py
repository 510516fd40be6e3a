"""Normal maps of other bases, and the picture that shows a wrong green."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.handoff.convert_normals import SURE, convert, convert_file, likely_green
from inkwell_cast.core.images import png, read_picture, write_picture
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.basis import Basis
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.core.tangent.swatch import sample

from ...shapes import grid_mesh, plane, torus

DOWN, VERTEX = Basis(green="down"), Basis(bitangent="vertex", lengths="unit")


def maps_of(low, high, basis=None, size=96):
    recipe = Recipe(
        reach=Reach(outward=10, inward=10),
        sheet=Sheet(width=size, height=size, samples=1),
        output=Output(maps=["normal", "normal_object"], depth=16),
        basis=basis or Basis(),
    )
    result = bake(recipe, BakeMeshes([low], [high]))
    return [png.dequantise(result.images[key]) for key in ("normal", "normal_object")], result.cast.covered > 0


@pytest.mark.parametrize(
    ("source", "target"),
    [
        (Basis(), None),
        (None, Basis()),
        (Basis(), DOWN),
        (DOWN, VERTEX),
        (VERTEX, None),
        (None, DOWN),
    ],
)
def test_a_converted_map_is_the_one_that_is_baked_in_that_basis(source, target):
    low, high = torus(12, 6), torus(120, 60)

    def baked(basis):
        (tangent, object_), covered = maps_of(low, high, basis)
        return (tangent if basis else object_), covered

    given, covered = baked(source)
    wanted, _ = baked(target)
    found = convert(given, low, source, target)
    np.testing.assert_allclose(found[covered], wanted[covered], atol=2e-4)


def waves(u, v):
    return u, v, 0.02 * np.sin(25 * u) * np.cos(18 * v) + 0.03 * np.sin(9 * v + 4 * u)


@pytest.mark.parametrize("green", ["up", "down"])
def test_the_way_that_green_points_is_told_from_the_map(green):
    (tangent, _), _ = maps_of(plane(), grid_mesh(200, 200, waves, "high"), Basis(green=green), 128)
    told, sure = likely_green(tangent)
    assert told == green
    assert sure > 3
    _, sure = likely_green(np.full((64, 64, 3), (0.5, 0.5, 1), np.float32))
    assert sure < SURE


def test_a_file_is_converted_with_its_depth_and_a_wrong_green_is_noted(tmp_path):
    (tangent, _), covered = maps_of(plane(), grid_mesh(200, 200, waves, "high"), DOWN, 128)
    write_picture(tmp_path / "given.png", "png", png.quantise(tangent, 16))
    said = convert_file(tmp_path / "given.png", tmp_path / "made.tif", plane(), Basis(green="up"), Basis())
    assert said == "given.png: its green looks as if it pointed down, but green up was given."
    assert convert_file(tmp_path / "given.png", tmp_path / "made.tif", plane(), DOWN, Basis()) == ""
    made = read_picture(tmp_path / "made.tif")
    assert made.dtype == np.uint16
    np.testing.assert_allclose(made[covered][:, 1] / 65535, 1 - tangent[covered][:, 1], atol=1e-4)
    with pytest.raises(InputProblem, match="names no format"):
        convert_file(tmp_path / "given.png", tmp_path / "made.xyz", plane(), DOWN, Basis())


def test_a_low_without_uvs_is_refused():
    with pytest.raises(InputProblem, match="no UVs in channel 0"):
        convert(np.zeros((32, 32, 3), np.float32), replace(plane(), uvs=()), None, Basis())


def test_the_sample_stands_out_when_green_is_read_as_it_was_stored():
    right, wrong = sample("up", "up").astype(int), sample("up", "down").astype(int)
    assert (right == sample("down", "down")).all()
    top, bottom = (30, 60), (62, 60)  # of the ball
    assert right[top].sum() > right[bottom].sum() + 100
    assert wrong[top].sum() < wrong[bottom].sum() - 100
