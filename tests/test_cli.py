import json
from dataclasses import replace

import cv2
import numpy as np
import pytest

from inkwell_cast.cli import main
from inkwell_cast.core.formats import read_mesh, write_mesh
from inkwell_cast.core.mesh.mesh import Mesh
from inkwell_cast.core.settings.sheet import Sheet

from .shapes import plane, torus


@pytest.fixture
def files(tmp_path):
    write_mesh(tmp_path / "ring_low.obj", torus(16, 8))
    write_mesh(tmp_path / "ring_high.ply", torus(120, 60))
    return tmp_path


def bake(files, *options):
    return main(
        [
            "bake",
            "--low",
            str(files / "ring_low.obj"),
            "--high",
            str(files / "ring_high.ply"),
            "--out",
            str(files / "out"),
            *options,
        ]
    )


def test_a_bake_writes_maps_and_manifest(files, capsys):
    code = bake(
        files,
        "--maps",
        "normal,normal_object",
        "--size",
        "96x64",
        "--samples",
        "1",
        "--reach",
        "0.2",
        "0.1",
        "--depth",
        "16",
        "--green",
        "down",
        "--padding",
        "fill",
    )
    assert code == 0
    manifest = json.loads((files / "out" / "manifest.json").read_text())
    assert manifest["recipe"]["basis"]["green"] == "down"
    assert manifest["recipe"]["sheet"] == Sheet(width=96, height=64, samples=1, padding="fill").model_dump()
    assert (manifest["outward_reach"], manifest["inward_reach"]) == (0.2, 0.1)
    assert [m["file"] for m in manifest["meshes"]] == ["ring_low.obj", "ring_high.ply"]
    assert manifest["missed_texels"] == 0
    image = cv2.imread(str(files / "out" / "normal.png"), cv2.IMREAD_UNCHANGED)
    assert image.shape == (64, 96, 3)
    assert image.dtype == np.uint16
    assert "best on this low" in capsys.readouterr().out


def test_options_win_over_the_recipe_file(files):
    (files / "r.json").write_text('{"sheet": {"width": 32, "height": 48}, "output": {"depth": 16}}')
    assert bake(files, "--recipe", str(files / "r.json"), "--depth", "8") == 0
    recipe = json.loads((files / "out" / "manifest.json").read_text())["recipe"]
    assert (recipe["sheet"]["width"], recipe["sheet"]["height"], recipe["output"]["depth"]) == (32, 48, 8)


def test_settings_are_taken_from_another_recipe_by_kind(files, capsys):
    (files / "a.json").write_text('{"sheet": {"width": 32}, "reach": {"outward": 4}}')
    (files / "b.json").write_text('{"sheet": {"width": 64}, "reach": {"outward": 7}}')
    assert main(["recipe", "take", str(files / "a.json"), "--of", str(files / "b.json"), "--kinds", "cage"]) == 0
    assert json.loads(capsys.readouterr().out) == {"sheet": {"width": 32}, "reach": {"outward": 7}}
    assert main(["recipe", "take", str(files / "a.json"), "--of", str(files / "b.json"), "--kinds", "size"]) == 2
    assert "no settings of the kind “size”" in capsys.readouterr().err


@pytest.mark.parametrize(
    ("options", "words"),
    [
        (["--size", "9x9"], "sheet.width: 9 cannot be used: input should be greater than or equal to 16"),
        (["--size", "big"], "“big” is not a size"),
        (["--maps", "normal,colour"], "colour"),
        (["--padding", "some"], "sheet.padding: 'some' cannot be used"),
        (["--recipe", "nowhere.json"], "nowhere.json: The recipe cannot be read"),
        (["--low", "nowhere.obj"], "nowhere.obj: The file cannot be read"),
        (["--out", "ring_low.obj/x"], "cannot be written"),
    ],
)
def test_bad_input_is_told_in_one_line(files, options, words, capsys, monkeypatch):
    monkeypatch.chdir(files)
    assert bake(files, *options) == 2
    said = capsys.readouterr().err
    assert words in said
    assert "Traceback" not in said


def test_a_low_without_uvs_is_named(files, capsys):
    bare = Mesh("bare", plane().positions, plane().triangles)
    write_mesh(files / "ring_low.obj", bare)
    assert bake(files) == 2
    assert "ring_low.obj: It has no UVs" in capsys.readouterr().err


def test_pairs_are_printed_with_what_stays_alone(files, capsys):
    write_mesh(files / "lost_high.ply", torus(8, 6))
    names = [str(files / name) for name in ("ring_low.obj", "ring_high.ply", "lost_high.ply")]
    assert main(["pair", *names]) == 0
    said = capsys.readouterr().out
    assert "ring: torus sees ring_high" in said
    assert "alone: lost_high.ply/lost_high: no low is called lost_low" in said
    assert main(["pair", *names, "--json", "--together"]) == 0
    found = json.loads(capsys.readouterr().out)
    assert (len(found["pairs"][0]["parts"]), found["alone"]) == (3, [])


def test_the_exit_code_of_a_check_is_that_of_the_worst_finding(files, capsys):
    names = [str(files / name) for name in ("ring_low.obj", "ring_high.ply")]
    assert main(["check", *names]) == 0
    assert "Nothing to object to." in capsys.readouterr().out
    write_mesh(files / "lost_high.ply", torus(8, 6))
    assert main(["check", *names, str(files / "lost_high.ply")]) == 3
    assert main(["check", names[0], "--json"]) == 4
    told = capsys.readouterr().out
    first = json.loads(told[told.index("[") :])[0]
    assert (first["severity"], first["title"], first["fix"]) == ("blocking", "No high", "Bake it on its own")


def test_meshes_are_converted_and_what_is_lost_is_said(files, capsys):
    assert main(["convert", str(files / "ring_low.obj"), str(files / "ring.glb")]) == 0
    np.testing.assert_array_equal(read_mesh(files / "ring.glb").positions, torus(16, 8).positions)
    assert main(["convert", str(files / "ring_low.obj"), str(files / "ring.stl")]) == 2
    assert "Files of type .stl cannot be written" in capsys.readouterr().err


def test_sheets_by_material_from_the_command_line(files, capsys):
    assert bake(files, "--size", "32", "--sheets", "tile", "--normals", "smooth") == 0
    manifest = json.loads((files / "out" / "manifest.json").read_text())
    assert [m["file"] for m in manifest["maps"]] == ["1001_normal.png"]
    assert manifest["recipe"]["normals"]["mode"] == "smooth"
    assert bake(files, "--size", "32", "--channel", "3") == 2
    assert "It has no UV channel 3" in capsys.readouterr().err


def lumpy(files):
    high = torus(120, 60, small=0.75)
    write_mesh(files / "ring_high.ply", high)
    return ["--low", str(files / "ring_low.obj"), "--high", str(files / "ring_high.ply")]


def test_a_fitted_cage_is_written_and_bakes_the_same_when_it_is_given_back(files, capsys):
    meshes, cage = lumpy(files), str(files / "mine.obj")
    assert main(["cage", *meshes, "--fit", "--clearance", "0.2", "--out", cage]) == 0
    said = capsys.readouterr().out
    assert "less than the even reach of" in said
    assert "\n0 of 7,381 vertices of the sculpt" in said
    written = read_mesh(cage)
    assert written.object_names == ("torus_cage",)
    assert len(written.positions) == len(read_mesh(files / "ring_low.obj").positions)
    out = []
    for options in (["--fit", "--clearance", "0.2"], ["--cage", cage]):
        assert bake(files, "--size", "64", *options) == 0
        out.append((files / "out" / "normal.png").read_bytes())
    assert out[0] == out[1]
    assert "cage of ring: Point to point" in capsys.readouterr().out
    manifest = json.loads((files / "out" / "manifest.json").read_text())
    assert manifest["pairs"][0]["cage_form"] == "points"
    assert manifest["coverage_of_sculpt"]["held"] == 1


def test_coverage_tells_what_is_held_in_lines_and_as_json(files, capsys):
    meshes = lumpy(files)
    assert main(["coverage", *meshes, "--reach", "0.3", "0.3"]) == 0
    said = capsys.readouterr().out
    assert "100.00% of the sculpt's surface held" in said
    assert "to spare" in said
    assert main(["coverage", *meshes, "--reach", "0.02", "0.3", "--json"]) == 3
    found = json.loads(capsys.readouterr().out)
    assert found["held"] < 1
    assert found["vertices_outside"] > 0
    assert {p["lack"] for p in found["places"]} <= {"outside", "missed"}
    assert found["cages"] == []


@pytest.mark.parametrize(
    ("options", "words"),
    [
        (["--cage", "nowhere.obj"], "nowhere.obj: The file cannot be read"),
        (["--clearance", "-1"], "reach.clearance: -1.0 cannot be used"),
        (["--out", "cage.xyz"], "cage.xyz"),
    ],
)
def test_a_cage_that_cannot_be_made_is_told_in_one_line(files, options, words, capsys):
    assert main(["cage", *lumpy(files), "--out", str(files / "cage.obj"), *options]) == 2
    assert words in capsys.readouterr().err


def test_any_setting_is_given_by_name_and_listed(files, capsys):
    options = [
        "--set",
        "occlusion.rays=4",
        "ids.by=object",
        "curvature.strength=auto",
        'ids.colors={"ring_high": "#123456"}',
    ]
    assert bake(files, "--size", "32", "--maps", "occlusion,ids,curvature", *options) == 0
    manifest = json.loads((files / "out" / "manifest.json").read_text())
    assert manifest["recipe"]["occlusion"]["rays"] == 4
    made = {m["key"]: m for m in manifest["maps"]}
    assert made["ids"]["facts"]["legend"] == {"ring_high": "#123456"}
    assert made["ids"]["space"] == "sRGB"
    assert made["curvature"]["facts"]["white"] > 0
    assert cv2.imread(str(files / "out" / "occlusion.png"), cv2.IMREAD_UNCHANGED).shape == (32, 32)
    for wrong, words in (
        ("occlusion.rays=0", "occlusion.rays: 0 cannot be used"),
        ("sky.blue=1", "“sky.blue=1” sets nothing"),
    ):
        assert bake(files, "--set", wrong) == 2
        assert words in capsys.readouterr().err
    assert main(["settings"]) == 0
    assert "occlusion.rays = 64 a texel" in capsys.readouterr().out


def test_a_normal_map_is_converted_to_another_basis(files, capsys):
    assert bake(files, "--size", "64", "--depth", "16") == 0
    low, given, made = str(files / "ring_low.obj"), str(files / "out" / "normal.png"), str(files / "made.png")
    convert = ["basis", "convert", "--low", low, "--map", given]
    assert main([*convert, "--from", "tangent", "--to", "tangent,green=down", "--out", made]) == 0
    a, b = (cv2.imread(p, cv2.IMREAD_UNCHANGED).astype(int) for p in (given, made))
    np.testing.assert_allclose(a[..., 1], 65535 - b[..., 1], atol=3)
    for wrong, words in (
        ("sideways", "“sideways” is no basis"),
        ("tangent,green=left", "green: 'left' cannot be used"),
    ):
        assert main([*convert, "--from", wrong, "--to", "object", "--out", made]) == 2
        assert words in capsys.readouterr().err


def test_pictures_are_mixed(files, capsys):
    assert bake(files, "--size", "32", "--maps", "occlusion,normal") == 0
    shade, made = str(files / "out" / "occlusion.png"), str(files / "made.png")
    assert main(["mix", "multiply", shade, shade, "--out", made]) == 0
    assert cv2.imread(made).shape == (32, 32, 3)
    assert main(["mix", "detail", shade, "--out", made]) == 2
    assert "1 pictures were given" in capsys.readouterr().err


def test_a_relief_is_baked_told_of_and_handed_on_with_its_mesh(files, capsys):
    mesh = files / "out" / "displaced.obj"
    how = ["--set", "subdivision.scheme=flat", "--set", "subdivision.levels=1"]
    assert bake(files, "--size", "32", "--maps", "normal,displacement", "--mesh", str(mesh), *how) == 0
    said = capsys.readouterr().out
    assert "displacement: black is -" in said
    assert "off the displaced low in the mean" in said
    made = read_mesh(mesh)
    assert len(made.triangles) == 4 * len(read_mesh(files / "ring_low.obj").triangles)


@pytest.mark.deep
def test_all_flaws_are_mended_and_the_mends_are_in_the_recipe_of_the_manifest(files, capsys):
    short = ("--set", "reach.unit=scene", "--set", "reach.outward=0.02", "--set", "reach.inward=0.02")
    short += ("--size", "512", "--samples", "4")
    assert bake(files, *short, "--mend") == 0
    said = capsys.readouterr().out
    assert "mended: sculpt outside the cage" in said
    assert "mended all:" in said
    manifest = json.loads((files / "out" / "manifest.json").read_text())
    assert manifest["mending"]["weight"][1] < manifest["mending"]["weight"][0]
    assert manifest["recipe"]["mends"]
    (files / "mended.json").write_text(json.dumps(manifest["recipe"]))
    first = (files / "out" / "normal.png").read_bytes()
    assert bake(files, "--recipe", str(files / "mended.json")) == 0
    assert (files / "out" / "normal.png").read_bytes() == first


def test_rays_are_straightened_on_flat_faces_or_by_a_picture(files, capsys):
    assert bake(files, "--straighten", "flat", "--maps", "normal,straightening", "--size", "64x64") == 0
    cv2.imwrite(str(files / "half.png"), np.full((32, 32), 128, np.uint8))
    assert bake(files, "--straighten", str(files / "half.png"), "--maps", "straightening", "--size", "64x64") == 0
    assert "straightened: rays on" in capsys.readouterr().out
    assert cv2.imread(str(files / "out" / "straightening.png"), cv2.IMREAD_GRAYSCALE).max() == 128
    assert bake(files, "--straighten", str(files / "none.png")) == 2
    assert "none.png: It cannot be read" in capsys.readouterr().err


def test_a_bake_is_held_to_limits(files, capsys):
    assert bake(files, "--size", "64x64", "--limit", "mean 20, missed 0") == 0
    assert bake(files, "--size", "64x64", "--limit", "mean 0") == 3
    assert "beyond the limit: mean is" in capsys.readouterr().out
    assert bake(files, "--size", "64x64", "--maps", "height", "--limit", "mean 5") == 3
    assert "no map of it holds normals" in capsys.readouterr().out
    assert bake(files, "--size", "64x64", "--limit", "men 5") == 2
    assert "“men 5” is no limit" in capsys.readouterr().err


def test_a_bake_that_is_not_judged_says_so_and_takes_no_limits(files, capsys):
    assert bake(files, "--size", "64x64", "--judge", "none") == 0
    told = capsys.readouterr().out
    assert "not judged" in told
    assert "as seen" not in told
    assert bake(files, "--size", "64x64", "--judge", "none", "--limit", "mean 5") == 2
    assert "not to be judged" in capsys.readouterr().err


def test_a_map_made_elsewhere_is_judged_and_held_to_limits(files, capsys):
    bake(files, "--size", "64x64", "--green", "down")
    capsys.readouterr()
    given = ["judge", "--low", str(files / "ring_low.obj"), "--high", str(files / "ring_high.ply")]
    written = str(next((files / "out").glob("*normal*.png")))
    assert main([*given, "--map", written, "--limit", "mean 20, missed 0"]) == 0
    said = capsys.readouterr().out
    assert "read as tangent space, green" in said
    assert "best on this low" in said
    assert main([*given, "--map", written, "--basis", "tangent,green=down", "--limit", "mean 0", "--json"]) == 3
    judged = json.loads(capsys.readouterr().out)
    assert judged["reading"] == "tangent space, green down"
    assert judged["beyond"][0].startswith("mean is")
    write_mesh(files / "one.obj", replace(read_mesh(files / "ring_low.obj"), object_names=("one",)))
    write_mesh(files / "other.ply", replace(read_mesh(files / "ring_high.ply"), object_names=("other",)))
    assert main(["judge", str(files / "one.obj"), str(files / "other.ply"), "--map", written]) == 0  # the low first
    assert main([*given, "--map", written, "--limit", "men 5"]) == 2
    assert "--limit: “men 5” is no limit" in capsys.readouterr().err


def test_too_little_memory_for_the_program_itself_is_told_in_words(monkeypatch, capsys):
    def run(options):
        raise ImportError("cv2.abi3.so: failed to map segment from shared object")

    monkeypatch.setattr("inkwell_cast.cli.program.run_compile", run)
    assert main(["compile"]) == 1
    assert "too little memory for the program itself" in capsys.readouterr().err


def test_settings_are_found_by_words_of_the_trade(capsys):
    assert main(["settings", "dilation"]) == 0
    said = capsys.readouterr().out
    assert "is called Padding here" in said
    assert "sheet.padding = " in said
    assert "reach.outward" not in said
    assert main(["settings", "zebra"]) == 2
    assert "None has the words “zebra”" in capsys.readouterr().err
