"""A project: found upwards from the meshes, below what a command says, checked and baked to where it says."""

import json
from dataclasses import replace

import pytest

from inkwell_cast.cli import main
from inkwell_cast.core.formats import read_mesh, write_mesh
from inkwell_cast.core.handoff.project_pieces import _too_coarse_or_fine, densities
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.material_library import Assignment, Library, Material, join
from inkwell_cast.core.settings.project import NAME, Project, find_project
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.core.settings.world import World

from .shapes import plane, torus

SMALL = {"sheet": {"width": 32, "height": 32, "samples": 1}, "output": {"maps": ["normal"]}}


@pytest.fixture
def props(tmp_path):
    """Two pieces in folders of a project, of which one is named with suffixes of its own."""
    for name in ("lamp", "bell"):
        folder = tmp_path / "props" / name
        folder.mkdir(parents=True)
        write_mesh(folder / f"{name}-lp.obj", torus(20, 10, name=f"{name}-lp"))
        write_mesh(folder / f"{name}-hp.ply", torus(40, 20))
    return tmp_path


def project(folder, **given):
    settings = SMALL | {"pairing": {"low": "-lp", "high": "-hp"}, "reach": {"outward": 4, "inward": 4}}
    given = {"settings": settings | given.pop("settings", {})} | given
    (folder / NAME).write_text(Project.model_validate(given).portable())


def test_one_is_started_once_and_its_schema_is_told(tmp_path, capsys):
    assert main(["project", "init", str(tmp_path / "game")]) == 0
    assert find_project(tmp_path / "game" / "props") == (Project(), tmp_path / "game")
    assert find_project(tmp_path) is None
    assert main(["project", "init", str(tmp_path / "game")]) == 2
    assert "There is a project already" in capsys.readouterr().err
    assert main(["project", "schema"]) == 0
    assert json.loads(capsys.readouterr().out)["properties"]["handoffs"]["default"] == "handoffs/{folder}"


def test_every_piece_is_baked_to_where_the_project_says_and_only_once(props, capsys):
    project(props, receiver="green down", handoffs="out/{folder}")
    assert main(["project", "bake", str(props / "props" / "lamp")]) == 0
    for name in ("lamp", "bell"):
        manifest = json.loads((props / "out/props" / name / name / "manifest.json").read_text())
        assert manifest["receiver"] == "Green down"
        assert manifest["bake"]["recipe"]["sheet"]["width"] == 32
        assert manifest["bake"]["recipe"]["output"]["format"] == "tga"
    capsys.readouterr()
    assert main(["project", "bake", str(props)]) == 0
    assert capsys.readouterr().err.count("as before") == 2
    project(props, handoffs="out")
    (props / "props/bell/bell-lp.obj").rename(props / "props/bell/lamp-lp.obj")
    (props / "props/bell/bell-hp.ply").rename(props / "props/bell/lamp-hp.ply")
    assert main(["project", "bake", str(props)]) == 2
    assert "Its handoff would go where that of" in capsys.readouterr().err


@pytest.mark.deep
def test_what_breaks_limits_or_density_is_told_with_exit_code_3(props, capsys):
    project(props)
    assert main(["project", "check", str(props)]) == 0
    assert "2 pieces, 0 beyond" in capsys.readouterr().out
    project(props, settings={"limits": {"words": "mean 0.01"}}, density=(0.1, 1000))
    assert main(["project", "check", str(props), "--json"]) == 3
    bell, lamp = json.loads(capsys.readouterr().out)
    assert (bell["piece"], bell["folder"]) == ("bell", "props/bell")
    assert lamp["broken"][0].startswith("mean is")
    assert lamp["likeness"] > 0.01
    project(props, density=(5000, 6000))
    assert main(["project", "check", str(props)]) == 3
    assert "fewer than 5000 texels a centimetre: lamp-lp " in capsys.readouterr().out
    project(props, density=(0.001, 0.002))
    assert main(["project", "check", str(props)]) == 3
    assert "more than 0.002 texels a centimetre: lamp-lp " in capsys.readouterr().out


def test_lows_beyond_the_density_are_told_together_the_worst_first():
    found = {f"a.obj/part{n}": float(n) for n in range(1, 8)}
    assert _too_coarse_or_fine(found, (5, 6)) == [
        "fewer than 5 texels a centimetre: part1 1, part2 2, part3 3 and 1 more lows",
        "more than 6 texels a centimetre: part7 7",
    ]
    assert _too_coarse_or_fine(found, (1, 7)) == _too_coarse_or_fine(found, None) == []


def test_a_plane_has_the_density_that_it_is_laid_out_with():
    low = replace(plane(3), positions=plane(3).positions * 2)
    side = float(low.positions[:, 0].max() - low.positions[:, 0].min())
    laid = plane(3).uvs[0].values
    span = float(laid[:, 0].max() - laid[:, 0].min())
    for unit, centimetres in (("cm", 1.0), ("m", 100.0), ("in", 2.54)):
        recipe = Recipe(sheet=Sheet(width=512, height=512), world=World(unit=unit))
        found = densities(assemble(recipe, BakeMeshes([low], [plane(4, name="high")])))
        assert list(found.values()) == pytest.approx([512 * span / side / centimetres], rel=1e-5)


@pytest.mark.deep
def test_a_command_finds_the_project_of_its_meshes_and_says_more(props, capsys):
    project(props)
    lamp = [str(props / "props/lamp" / name) for name in ("lamp-lp.obj", "lamp-hp.ply")]
    assert main(["bake", *lamp, "--out", str(props / "a"), "--samples", "4"]) == 0
    assert f"project: {props / NAME}" in capsys.readouterr().err
    baked = json.loads((props / "a/manifest.json").read_text())["recipe"]
    assert (baked["sheet"]["width"], baked["sheet"]["samples"], baked["output"]["maps"]) == (32, 4, ["normal"])
    (props / "own.json").write_text(json.dumps({"sheet": {"width": 64}, "output": {"maps": ["height"]}}))
    assert main(["bake", *lamp, "--out", str(props / "b"), "--recipe", str(props / "own.json")]) == 0
    baked = json.loads((props / "b/manifest.json").read_text())["recipe"]
    assert (baked["sheet"]["width"], baked["sheet"]["height"], baked["output"]["maps"]) == (64, 32, ["height"])
    assert main(["run", str(props / "props"), "--out", str(props / "c")]) == 0
    assert (props / "c/lamp/manifest.json").is_file()
    (props / "c/lamp/lamp-lp.obj").write_bytes((props / "props/lamp/lamp-lp.obj").read_bytes())
    assert main(["project", "check", str(props)]) == 0
    assert "2 pieces" in capsys.readouterr().out  # a handoff holds none, whatever was put there


def test_the_library_of_a_project_goes_by_the_materials_of_sculpts(props):
    library = Library(
        materials=[Material(name="Brass", id_color="#c08020")],
        assigned=[
            Assignment(kind="material", name="metal", material="Brass"),
            Assignment(kind="part", name="a/b", material="Brass"),
        ],
    )
    (props / "library.json").write_text(library.portable())
    high = read_mesh(props / "props/lamp/lamp-hp.ply")
    write_mesh(props / "props/lamp/lamp-hp.obj", replace(high, material_names=("metal",)))
    (props / "props/lamp/lamp-hp.ply").unlink()
    project(props, library="library.json", settings={"output": {"maps": ["ids"]}, "ids": {"by": "library"}})
    lamp = [str(props / "props/lamp" / name) for name in ("lamp-lp.obj", "lamp-hp.obj")]
    assert main(["bake", *lamp, "--out", str(props / "a")]) == 0
    manifest = json.loads((props / "a/manifest.json").read_text())
    assert [given["kind"] for given in manifest["recipe"]["library"]["assigned"]] == ["material"]
    assert "Brass" in json.dumps(manifest["maps"])


def test_assignments_of_a_file_win_over_those_of_the_same_material():
    ours = Library(
        materials=[Material(name="Tin"), Material(name="Ink")],
        assigned=[
            Assignment(kind="material", name="metal", material="Tin"),
            Assignment(kind="object", name="metal", material="Ink"),
        ],
    )
    theirs = Library(
        materials=[Material(name="Brass")], assigned=[Assignment(kind="material", name="metal", material="Brass")]
    )
    joined = join(ours, theirs)
    assert joined.of("material") == {"metal": "Brass"}
    assert joined.of("object") == {"metal": "Ink"}


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{", "It is no JSON"),
        ('{"kind": "other"}', "It is no project"),
        ('{"kind": "inkwell-cast project", "version": 2}', "of version 2"),
        ('{"kind": "inkwell-cast project", "version": 1, "settings": {"reach": {"outward": -1}}}', "outward"),
        ('{"kind": "inkwell-cast project", "version": 1, "handoffs": "{place}"}', "{folder} and {piece}"),
        ('{"kind": "inkwell-cast project", "version": 1, "density": [8, 5]}', "the least comes first"),
        ('{"kind": "inkwell-cast project", "version": 1, "receiver": "nobody"}', "no receiver of this name"),
        ('{"kind": "inkwell-cast project", "version": 1, "library": "none.json"}', "none.json"),
    ],
)
def test_a_project_that_cannot_be_used_is_told_in_words(props, text, words, capsys):
    (props / NAME).write_text(text)
    assert main(["project", "bake", str(props)]) == 2
    assert words in capsys.readouterr().err


def test_where_no_project_is_that_is_said(tmp_path, capsys):
    assert main(["project", "check", str(tmp_path)]) == 2
    assert f"There is no {NAME} here or above" in capsys.readouterr().err
