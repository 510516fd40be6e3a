"""Handoffs: names, packing, what the files hold, and that they appear whole or not at all."""

import datetime
import json
import os
import pathlib
import subprocess
import threading
import zipfile
from dataclasses import replace

import cv2
import numpy as np
import pytest

from inkwell_cast.core.bake.manifest import sha256_of
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.base.errors import Cancelled, InputProblem
from inkwell_cast.core.base.system import hold_alone
from inkwell_cast.core.formats import read_mesh
from inkwell_cast.core.handoff import hand_off as handing
from inkwell_cast.core.handoff.bake_on_disk import Finished
from inkwell_cast.core.handoff.hand_off import hand_off
from inkwell_cast.core.handoff.plan import refuse_unready
from inkwell_cast.core.handoff.textured_glb import worn
from inkwell_cast.core.handoff.whole_or_nothing import Taken
from inkwell_cast.core.images import read_picture
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.basis import Basis
from inkwell_cast.core.settings.handoff import Handoff, Pack, Well
from inkwell_cast.core.settings.maps import Occlusion
from inkwell_cast.core.settings.output import Form, Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.core.uv.layout import lay_out_sheets

from ...shapes import plane, torus

TESTS = pathlib.Path(__file__).parents[2]
DAY = datetime.date(2031, 5, 6)


# the handoff itself


def recipe_for(maps=("normal", "occlusion"), **groups):
    return Recipe(
        reach=Reach(unit="scene", outward=0.3, inward=0.3),
        sheet=Sheet(width=96, height=64, samples=1),
        output=groups.pop("output", Output(maps=list(maps))),
        occlusion=Occlusion(rays=4),
        **groups,
    )


def finished(tmp_path, recipe, low=None, high=None, name="Ring of rope"):
    made = bake(recipe, BakeMeshes([low or torus(16, 8)], [high or torus(80, 40)]))
    folder = tmp_path / "bake"
    return made, Finished.of_folder(name, save(made, folder, None, folder), folder, folder)


@pytest.fixture(scope="module")
def ring(tmp_path_factory):
    return finished(tmp_path_factory.mktemp("ring"), recipe_for())


def handed(ring, target, handoff=None, **more):
    made, own = ring
    return hand_off(own, made.assembly, made.warm, handoff or Handoff(), target, day=DAY, **more)


def test_a_handoff_holds_what_its_manifest_says(ring, tmp_path):
    pack = Pack(name="masks", red=Well(map="occlusion"), green=Well(map="normal", channel="blue"))
    done = handed(ring, tmp_path / "out", Handoff(packs=[pack], loose=False, words={"normal": "N"}), receiver="R")
    told = json.loads((done.path / "manifest.json").read_bytes())
    there = {file.name for file in done.path.iterdir()}
    assert there == {own["file"] for own in told["files"]} | {"manifest.json"}
    assert {"Ring_of_rope_masks.png", "Ring_of_rope_low.glb", "Ring_of_rope_cage.obj", "report.html"} <= there
    assert "Ring_of_rope_N.png" not in there  # packed maps do not stand alone here
    for own in told["files"]:
        assert own["sha256"] == sha256_of(done.path / own["file"])
    assert (told["receiver"], told["day"], told["bake"]["recipe"]["basis"]["green"]) == ("R", "2031-05-06", "up")
    made = read_picture(done.path / "Ring_of_rope_masks.png")
    bake_, own = ring
    np.testing.assert_array_equal(made[..., 1], read_picture(own.files["", "normal"])[..., 2])
    page = (done.path / "report.html").read_text()
    assert "Green points up" in page
    assert "red: occlusion red" in page
    assert "src=" not in page.replace('src="data:', "")  # nothing is fetched from elsewhere
    low = read_mesh(done.path / "Ring_of_rope_low.obj")
    np.testing.assert_array_equal(low.positions[low.triangles], bake_.low.mesh.positions[bake_.low.mesh.triangles])


def test_the_same_handoff_gives_the_same_bytes(ring, tmp_path):
    one, two = (handed(ring, tmp_path / name / "ring.zip") for name in ("a", "b"))
    assert one.path.read_bytes() == two.path.read_bytes()
    with zipfile.ZipFile(one.path) as archive:
        assert archive.testzip() is None
        assert {name.partition("/")[0] for name in archive.namelist()} == {"ring"}


def test_what_is_there_is_asked_about_replaced_or_kept_beside(ring, tmp_path):
    target = tmp_path / "out"
    assert handed(ring, target).path == target
    with pytest.raises(Taken, match="already"):
        handed(ring, target)
    (target / "Ring_of_rope_normal.png").unlink()
    handed(ring, target, Handoff(existing="replace"))
    assert (target / "Ring_of_rope_normal.png").exists()
    assert handed(ring, target, Handoff(existing="number")).path == tmp_path / "out_2"
    assert sorted(file.name for file in tmp_path.iterdir()) == ["out", "out_2"]  # nothing temporary is left


def test_what_a_killed_handoff_left_is_swept_away_once_nobody_holds_it(ring, tmp_path):
    old, held, young = (tmp_path / f".inkwell-{name}" for name in ("old", "held", "young"))
    for folder in (old, held, young):
        (folder / "ring").mkdir(parents=True)
        (folder / "held").touch()
    for folder in (old, held):
        os.utime(folder / "held", (1e9, 1e9))
    with (held / "held").open("r+b") as file:
        hold_alone(file)
        handed(ring, tmp_path / "out")
        assert sorted(left.name for left in tmp_path.glob(".inkwell-*")) == [".inkwell-held", ".inkwell-young"]
    handed(ring, tmp_path / "out_too")
    assert [left.name for left in tmp_path.glob(".inkwell-*")] == [".inkwell-young"]


def test_what_others_laid_into_a_handoff_stays_when_it_is_replaced(ring, tmp_path):
    target = handed(ring, tmp_path / "out", Handoff(words={"normal": "old"})).path
    (target / "mine.txt").write_text("mine")
    (target / "thumbs").mkdir()
    (target / "thumbs" / "normal.meta").write_text("meta")
    handed(ring, target, Handoff(existing="replace", words={"normal": "new"}))
    assert (target / "mine.txt").read_text() == "mine"
    assert (target / "thumbs" / "normal.meta").read_text() == "meta"
    assert (target / "Ring_of_rope_new.png").exists()
    assert not (target / "Ring_of_rope_old.png").exists()  # its own manifest named it
    (target / "Ring_of_rope_own.png").write_bytes(b"painted by hand")
    with pytest.raises(InputProblem, match="No handoff wrote this file"):
        handed(ring, target, Handoff(existing="replace", words={"normal": "own"}))
    assert (target / "Ring_of_rope_own.png").read_bytes() == b"painted by hand"
    assert (target / "Ring_of_rope_new.png").exists()


def foreign_zip(path):
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("holiday.txt", "photos")


@pytest.mark.parametrize("existing", ["ask", "replace"])
@pytest.mark.parametrize(
    ("name", "make"),
    [
        ("notes", lambda path: path.write_text("a text file")),
        ("folder", lambda path: (path.mkdir(), (path / "mine.txt").write_text("mine"))),
        ("old.zip", foreign_zip),
        ("broken.zip", lambda path: path.write_text("no zip")),
        ("folder.zip", lambda path: path.mkdir() or (path / "x").write_text("x")),
    ],
)
def test_what_no_handoff_wrote_is_never_replaced(ring, tmp_path, name, make, existing):
    target = tmp_path / name
    make(target)
    before = {file: file.read_bytes() for file in tmp_path.rglob("*") if file.is_file()}
    with pytest.raises(InputProblem) as refused:
        handed(ring, target, Handoff(existing=existing))
    assert not isinstance(refused.value, Taken)  # replacing it is not even offered
    assert {file: file.read_bytes() for file in tmp_path.rglob("*") if file.is_file()} == before
    done = handed(ring, target, Handoff(existing="number"))
    assert done.path != target
    assert before.items() <= {file: file.read_bytes() for file in tmp_path.rglob("*") if file.is_file()}.items()


def test_an_archive_of_a_handoff_is_replaced(ring, tmp_path):
    target = handed(ring, tmp_path / "ring.zip").path
    with pytest.raises(Taken):
        handed(ring, target)
    handed(ring, target, Handoff(existing="replace", obj=True))
    assert any(name.endswith("_low.obj") for name in zipfile.ZipFile(target).namelist())


def test_what_a_handoff_would_refuse_is_refused_before_the_bake(tmp_path):
    recipe = recipe_for()
    refuse_unready(recipe.handoff, "Ring", recipe, tmp_path / "out", "ask")
    (tmp_path / "notes").write_text("text")
    for handoff, target, words in (
        (recipe.handoff, "notes", "not a folder"),
        (Handoff(packs=[Pack(name="p", red=Well(map="thickness"))]), "out", "take Thickness"),
    ):
        with pytest.raises(InputProblem, match=words):
            refuse_unready(handoff, "Ring", recipe, tmp_path / target, "replace")
    alike = recipe.model_copy(update={"handoff": recipe.handoff.model_copy(update={"pattern": "{piece}"})})
    with pytest.raises(InputProblem, match="names every map alike"):
        refuse_unready(alike.handoff, "Ring", alike, tmp_path / "out", "ask")


@pytest.mark.parametrize("at", ["glb", "report", "cancel", "full"])
def test_what_fails_leaves_nothing(ring, tmp_path, monkeypatch, at):
    def broken(*given, **more):
        raise OSError(28, "No space left on device")

    target, kind, words = tmp_path / "deep" / "out", InputProblem, "No space left.*Free some space"
    handed(ring, target)
    before = {file.name: file.read_bytes() for file in target.iterdir()}
    more = {}
    if at == "glb":
        monkeypatch.setattr(handing.glb_writer, "write", broken)
    elif at == "report":
        monkeypatch.setattr(handing, "report", broken)
    elif at == "full":
        monkeypatch.setattr(handing.shutil, "copyfile", broken)
    else:
        kind, words, asked = Cancelled, None, iter([False, False, True])
        more["cancel"] = lambda: next(asked)
    with pytest.raises(kind, match=words):
        handed(ring, target, Handoff(existing="replace"), **more)
    assert {file.name: file.read_bytes() for file in target.iterdir()} == before
    assert [file.name for file in target.parent.iterdir()] == ["out"]


def test_two_at_once_do_not_mix(ring, tmp_path):
    results, problems = [], []

    def one():
        try:
            results.append(handed(ring, tmp_path / "out", Handoff(existing="number")).path.name)
        except BaseException as problem:
            problems.append(problem)

    threads = [threading.Thread(target=one) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert problems == []
    assert sorted(results) == ["out", "out_2", "out_3", "out_4"]
    sizes = {tuple(sorted((f.name, f.stat().st_size) for f in folder.iterdir())) for folder in tmp_path.iterdir()}
    assert len(sizes) == 1


def checked(*paths):
    """What the public validator says of GLB files."""
    lines = subprocess.run(
        ["node", "gltf_oracle.js", *map(str, paths)], cwd=TESTS, capture_output=True, text=True, check=True
    ).stdout.splitlines()
    return [json.loads(line) for line in lines]


def three_sheets():
    """A low whose UVs lie on two tiles and reach into a third, mirrored on one of them."""
    low = torus(16, 8)
    uvs = low.uvs[0].values.copy()
    uvs[:, 0] = 2.5 - 2.5 * uvs[:, 0]
    return replace(low, uvs=(replace(low.uvs[0], values=uvs),))


@pytest.mark.deep
def test_the_glb_passes_the_public_validator(ring, tmp_path):
    places = [handed(ring, tmp_path / "one").path / "Ring_of_rope_low.glb"]
    for n, (recipe, low) in enumerate(
        (
            (recipe_for(maps=["normal", "ids", "color", "emission"]), None),
            (recipe_for(maps=["normal_object"], basis=Basis(green="down")), None),
            (recipe_for(maps=["curvature"]), None),
            (
                Recipe(
                    reach=Reach(unit="scene", outward=0.3, inward=0.3),
                    sheet=Sheet(width=64, height=32, samples=1, split="tile"),
                ),
                three_sheets(),
            ),
        )
    ):
        made = finished(tmp_path / str(n), recipe, low)
        places.append(handed(made, tmp_path / f"out{n}").path / "Ring_of_rope_low.glb")
    found = checked(*places)
    assert [(own["errors"], own["warnings"]) for own in found] == [(0, 0)] * len(places), found
    flat = plane(1)
    flat = finished(tmp_path / "flat", recipe_for(maps=["normal"]), flat, plane(4, 0.1))
    (own,) = checked(handed(flat, tmp_path / "flat_out").path / "Ring_of_rope_low.glb")
    assert (own["errors"], own["warnings"]) == (0, 0), own


@pytest.mark.deep
def test_the_glb_s_normals_are_the_same_whatever_basis_the_maps_have(tmp_path):
    """Its readers know one basis only, so the maps of every other are brought into it."""
    found = []
    for n, (basis, maps) in enumerate(
        (
            (Basis(), ["normal"]),
            (Basis(green="down"), ["normal"]),
            (Basis(hand="left"), ["normal"]),
            (Basis(bitangent="vertex", lengths="unit"), ["normal"]),
            (Basis(), ["normal_object"]),
        )
    ):
        recipe = recipe_for(basis=basis, output=Output(maps=maps, depth=16))
        made, own = finished(tmp_path / str(n), recipe)
        (sheet,) = lay_out_sheets(recipe, made.assembly.low).sheets
        data = worn(own, made.low.mesh, sheet).normal
        found.append(cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_COLOR).astype(int))
    for other in found[1:]:
        assert np.abs(other - found[0]).max() <= 1


def test_a_file_of_its_own_form_stands_beside_the_others(tmp_path):
    own = {"height": Form(format="exr", depth=32), "occlusion": Form(format="tga")}
    recipe = recipe_for(output=Output(maps=["normal", "height", "occlusion"], depth=16, own=own))
    made = handed(finished(tmp_path, recipe), tmp_path / "out", Handoff(pattern="{map}_{depth}"))
    names = {file.name for file in made.path.iterdir()}
    assert {"normal_16.png", "height_32f.exr", "occlusion_8.tga"} <= names
    assert read_picture(made.path / "height_32f.exr").dtype == np.float32
    assert read_picture(made.path / "normal_16.png").dtype == np.uint16
