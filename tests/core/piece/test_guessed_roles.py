"""Roles that no name gives, guessed alike by command line, Python and batch."""

from dataclasses import replace

import pytest

from inkwell_cast import Piece
from inkwell_cast.core.formats import write_mesh
from inkwell_cast.core.handoff.batch import grouped
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.guessed_roles import as_given
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.pairing import Pairing
from inkwell_cast.core.settings.recipe import Recipe

from ...shapes import torus


def nameless():
    low, high = torus(20, 10, name="ring.obj"), torus(60, 30, name="scan.ply")
    return low, high, replace(low, name="shell.obj", positions=low.positions * 1.1)


def test_nameless_files_are_sorted_by_form_and_it_is_told():
    told, meshes = [], BakeMeshes([], [], list(nameless()))
    recipe = as_given(Recipe(), meshes, told.append)
    assert {name: own.role for name, own in recipe.files.items()} == {
        "ring.obj": "low",
        "scan.ply": "high",
        "shell.obj": "cage",
    }
    (pair,) = assemble(recipe, meshes).paired.pairs
    assert len(pair.cages) == 1
    assert any("shell.obj is taken as cage, by a guess: as many triangles as ring.obj" in words for words in told)


def test_what_a_recipe_says_is_no_guess():
    told, low = [], nameless()[0]
    recipe = Recipe.model_validate({"files": {"ring.obj": {"role": "high"}}})
    assert as_given(recipe, BakeMeshes([], [], [low]), told.append).file("ring.obj").role == "high"
    assert told == []


def test_python_says_what_it_guessed():
    piece = Piece.by_names(*nameless())
    assert len(piece.guessed) == 3
    assert Piece.of(nameless()[0], nameless()[1]).guessed == []


@pytest.mark.parametrize(
    ("files", "pieces"),
    [
        (("low.obj", "high.obj", "cage.obj"), {"rock": 3}),
        (("lp_bell.obj", "HP-bell.ply", "cage_bell.obj"), {"bell": 3}),
        (("low_wall.obj", "low_wall_high.obj"), {"low_wall": 2}),
    ],
)
def test_batches_group_files_by_words_too(tmp_path, files, pieces):
    folder = tmp_path / "rock"
    folder.mkdir()
    for file in files:
        write_mesh((folder / file).with_suffix(".obj"), nameless()[0])
    found = grouped([folder / file for file in files], Pairing())
    assert {item.name: len(item.files) for item in found} == pieces
