"""Vertex colours mean the same in every format, in the map of colours and in that of IDs."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.formats import read_mesh, write_mesh
from inkwell_cast.core.mesh.mesh import CornerValues
from inkwell_cast.core.mesh.vertex_colors import with_linear_colors
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.files import FileSettings
from inkwell_cast.core.settings.maps import Ids
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import plane

STORED = (51, 153, 204)  # as an artist picks it on a screen


def painted():
    """A plane in one colour, linear light."""
    mesh = plane(2, 0.01, name="plane_high")
    light = with_linear_colors(
        replace(
            mesh,
            color_space="srgb",
            colors=CornerValues(np.array([[*(c / 255 for c in STORED), 1]], np.float32), np.zeros_like(mesh.triangles)),
        )
    )
    return replace(light, object_names=("plane_high",))


@pytest.mark.parametrize("suffix", [".obj", ".ply", ".glb"])
@pytest.mark.parametrize("by", ["color"])
def test_one_colour_comes_out_as_it_was_painted(tmp_path, suffix, by):
    write_mesh(tmp_path / f"plane_high{suffix}", painted())
    high = read_mesh(tmp_path / f"plane_high{suffix}")
    assert high.color_space == ("linear" if suffix == ".glb" else "srgb")
    recipe = Recipe(
        sheet=Sheet(width=16, height=16, samples=1),
        output=Output(maps=["color", "ids"]),
        ids=Ids(by=by),
    )
    made = bake(recipe, BakeMeshes([plane(name="plane_low")], [high]))
    assert made.images["color"][8, 8].tolist() == list(STORED)
    assert list(made.sheets[0].facts["ids"]["legend"]) == ["#3399cc"]


def test_a_file_s_switch_says_otherwise(tmp_path):
    write_mesh(tmp_path / "plane_high.ply", painted())
    high = read_mesh(tmp_path / "plane_high.ply")
    recipe = Recipe(
        sheet=Sheet(width=16, height=16, samples=1),
        output=Output(maps=["color"]),
        files={"plane_high.ply": FileSettings(colors="linear")},
    )
    made = bake(recipe, BakeMeshes([plane(name="plane_low")], [high]))
    assert (
        made.images["color"][8, 8, 0] > STORED[0] + 60
    )  # its numbers are taken as light, and brightened for the screen
