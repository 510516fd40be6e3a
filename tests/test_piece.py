"""The one import for the usual; the examples of README and guide are run by `test_docs`."""

import numpy as np
import pytest
from pydantic import ValidationError

import inkwell_cast
from inkwell_cast import Piece
from inkwell_cast.core.base.errors import Cancelled, InputProblem
from inkwell_cast.core.formats import write_mesh
from inkwell_cast.core.images import read_picture

from .shapes import torus


@pytest.fixture
def files(tmp_path, monkeypatch):
    write_mesh(tmp_path / "lamp_low.obj", torus(16, 8, name="lamp_low"))
    write_mesh(tmp_path / "lamp_high.ply", torus(80, 40))
    monkeypatch.chdir(tmp_path)
    return tmp_path


def test_a_chain_of_calls_bakes_mends_and_hands_off(files):
    low, high = torus(16, 8, name="lamp_low"), torus(80, 40, small=0.75, name="high")
    lamp = Piece.of(low, high, name="Lamp").set(reach={"unit": "scene", "outward": 0.02, "inward": 0.02})
    rough = lamp.bake(maps=["normal"], size=(96, 64), samples=4)
    assert rough.flaws
    assert rough.image("normal").shape == (64, 96, 3)
    better = lamp.bake(mend=True)
    assert lamp.recipe.mends
    assert better.mended is not None
    assert better.seen.bake.mean < rough.seen.bake.mean
    handed = better.hand_off("textures", shared=True)
    assert (handed.path / "Lamp.manifest.json").exists()
    np.testing.assert_array_equal(read_picture(handed.path / "Lamp_normal.png"), better.image("normal"))
    assert better.hand_off("textures", shared=True).words == f"{len(handed.changes)} the same"
    lamp.save("lamp.icast")
    again = Piece.open("lamp.icast").bake()
    assert (again.image("normal") == better.image("normal")).all()


def test_the_reach_is_measured_and_set(files):
    lamp = Piece.by_names("lamp_low.obj", "lamp_high.ply").set(sheet={"width": 64, "height": 64})
    assert lamp.name == "lamp"
    found = lamp.measure()
    assert "°" in found.words
    assert lamp.bake(maps=["normal"]).seen.bake.mean < 10


def test_what_cannot_be_is_said(files):
    lamp = Piece.of("lamp_low.obj", ["lamp_high.ply"])
    with pytest.raises(ValidationError, match="upward"):
        lamp.set(basis={"green": "upward"})
    with pytest.raises(InputProblem, match=r"none\.obj"):
        Piece.of("none.obj", "lamp_high.ply")
    with pytest.raises(InputProblem, match="No mesh is named"):
        Piece.by_names()
    with pytest.raises(Cancelled):
        lamp.bake(size=64, cancel=lambda: True)
    made = lamp.bake(maps=["height"], size=64, samples=1)
    with pytest.raises(InputProblem, match=r"has no normal.*It has height"):
        made.image("normal")
    with pytest.raises(InputProblem, match="no normals to be seen"):
        _ = made.seen
    with pytest.raises(InputProblem, match="no receiver of this name"):
        made.hand_off("x", receiver="none such")
    with pytest.raises(AttributeError, match="Peace"):
        _ = inkwell_cast.Peace
