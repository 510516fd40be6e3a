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
import OpenEXR
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from inkwell_cast.core.bake.manifest import sha256_of
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.base.errors import Cancelled, InputProblem
from inkwell_cast.core.base.system import hold_alone
from inkwell_cast.core.formats import read_mesh
from inkwell_cast.core.handoff import hand_off as handing
from inkwell_cast.core.handoff.bake_on_disk import Finished
from inkwell_cast.core.handoff.channel_packing import packed
from inkwell_cast.core.handoff.file_names import LONGEST, Named, file_name, named_all, plain
from inkwell_cast.core.handoff.hand_off import hand_off
from inkwell_cast.core.handoff.plan import refuse_unready
from inkwell_cast.core.handoff.textured_glb import worn
from inkwell_cast.core.handoff.whole_or_nothing import Taken
from inkwell_cast.core.images import SUFFIXES, png, read_picture, write_picture
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


def named(word="normal", sheet="", pair="", suffix=".png", what=""):
    return Named(what or word, pair, sheet, sheet or "1001", word, 1024, 512, "8", suffix)


# names


def test_tokens_stand_for_what_they_say_and_empty_ones_leave_no_gap():
    pattern = "{piece}_{pair}_{sheet}_{map}.{tile}_{size}_{depth}-{date}"
    assert file_name(pattern, "Lamp", named(), DAY) == "Lamp_normal.1001_1024x512_8-20310506.png"
    full = file_name(pattern, "Lamp", named(sheet="1002", pair="lid"), DAY)
    assert full == "Lamp_lid_1002_normal.1002_1024x512_8-20310506.png"
    assert file_name("{sheet}_{map}", "Lamp", named(), DAY) == "normal.png"
    assert file_name("{map}", "{date}", named("{piece}"), DAY) == "{piece}.png"  # a value is not read again


@given(st.text(max_size=80))
def test_any_name_becomes_one_that_every_system_takes(text):
    made = plain(text)
    assert made
    assert not set(made) & set('<>:"/\\|?*\x00\n\t ')
    assert made == made.strip(" .")
    assert made.partition(".")[0].lower() not in ("con", "prn", "aux", "nul", "com1", "lpt9")
    assert plain(made) == made


def test_names_that_clash_or_are_too_long_are_refused_by_name():
    with pytest.raises(InputProblem, match=r"NORMAL\.png: Both a and b would be called this"):
        named_all("{map}", "x", [named(what="a"), named("NORMAL", what="b")], DAY)
    with pytest.raises(InputProblem, match=r"name is 2\d\d bytes long"):
        file_name("{piece}_{map}", "ü" * (LONGEST // 2), named(), DAY)
    for pattern, words in (
        ("{piece}", "every map alike"),
        ("{nap}_{map}", "no {nap}"),
        ("{map", "brace"),
        ("{map}}", "brace"),
    ):
        with pytest.raises(InputProblem, match=words):
            named_all(pattern, "x", [named()], DAY)


# packing


def pictures(tmp_path, **values):
    """PNGs of one value each, by map; the picture function of `packed`."""
    for key, value in values.items():
        steps = np.broadcast_to(np.array(value, np.uint16), (4, 6, 3 if np.ndim(value) else 1)).copy()
        png.write(tmp_path / f"{key}.png", steps)
    return lambda key: tmp_path / f"{key}.png" if (tmp_path / f"{key}.png").exists() else None


def test_each_channel_holds_its_map_turned_over_or_a_value(tmp_path):
    read = pictures(tmp_path, occlusion=[65535 // 4], normal=[10000, 20000, 30000])
    pack = Pack(
        red=Well(map="occlusion"),
        green=Well(map="normal", channel="green", invert=True),
        blue=Well(value=0.5),
        alpha=Well(value=0.25, invert=True),
        depth=16,
    )
    made = packed(pack, (6, 4), read)
    assert (made.shape, made.dtype) == ((4, 6, 4), np.uint16)
    np.testing.assert_allclose(made[0, 0], [16383, 65535 - 20000, 32768, 49151], atol=1)
    floats = packed(pack.model_copy(update={"format": "exr", "depth": 32}), (6, 4), read)
    np.testing.assert_allclose(floats[0, 0], [0.25, 1 - 20000 / 65535, 0.5, 0.75], atol=1e-4)


def test_a_map_of_colours_is_turned_to_light_for_a_linear_picture_and_alpha_is_always_linear(tmp_path):
    read = pictures(tmp_path, color=[32768, 32768, 32768], occlusion=[32768])
    pack = Pack(red=Well(map="color"), green=Well(map="occlusion"), alpha=Well(map="color"), depth=16)
    np.testing.assert_allclose(packed(pack, (6, 4), read)[0, 0] / 65535, [0.2140, 0.5, 0, 0.2140], atol=1e-3)
    bright = packed(pack.model_copy(update={"space": "sRGB"}), (6, 4), read)[0, 0] / 65535
    np.testing.assert_allclose(bright, [0.5, 0.7354, 0, 0.2140], atol=1e-3)


def test_a_picture_of_floats_holds_what_the_maps_of_floats_hold(tmp_path):
    slope = np.linspace(-3, 5, 24, dtype=np.float32).reshape(4, 6, 1)
    write_picture(tmp_path / "height.exr", "exr", slope)
    shown = pictures(tmp_path, height=0, occlusion=13107)  # a fifth of 16 bits
    raw = {"height": tmp_path / "height.exr", "occlusion": tmp_path / "occlusion.png"}
    wells = {"red": Well(map="height"), "green": Well(map="height", invert=True), "blue": Well(map="occlusion")}
    exact = packed(Pack(**wells, format="exr", depth=32), (6, 4), shown, raw.get)
    np.testing.assert_array_equal(
        exact, np.concatenate([slope, 1 - slope, np.full((4, 6, 1), np.float32(0.2))], axis=2)
    )
    whole = packed(Pack(**wells, depth=16), (6, 4), shown, raw.get)  # which has no place for what is beyond 1
    assert set(np.unique(whole[..., 0])) == {0}


def test_a_missing_map_is_named(tmp_path):
    with pytest.raises(InputProblem, match=r"“packed”: Its blue takes height, which this bake has not"):
        packed(Pack(blue=Well(map="height")), (6, 4), lambda key: None)


@pytest.mark.parametrize(
    ("name", "depth"), [("png", 8), ("png", 16), ("tga", 8), ("tiff", 16), ("tiff", 32), ("exr", 16)]
)
def test_four_channels_are_written_as_other_libraries_read_them(tmp_path, name, depth):
    made = packed(
        Pack(red=Well(value=1), green=Well(value=0.5), alpha=Well(value=0.25), format=name, depth=depth),
        (5, 3),
        lambda key: None,
    )
    path = tmp_path / f"a{SUFFIXES[name]}"
    write_picture(path, name, made)
    if name == "exr":
        channels = OpenEXR.File(str(path), separate_channels=True).channels()
        found = [float(channels[c].pixels[0, 0]) for c in "RGBA"]
    elif name == "tga":
        found = np.array(Image.open(path))[0, 0] / 255
    else:
        steps = cv2.imread(str(path), cv2.IMREAD_UNCHANGED)[0, 0][[2, 1, 0, 3]]
        found = steps / (1 if depth == 32 else 2**depth - 1)
    np.testing.assert_allclose(found, [1, 0.5, 0, 0.25], atol=3e-3)


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
