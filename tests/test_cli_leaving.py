"""The commands handoff, run, receivers, piece and library."""

import json
import os
import subprocess
import sys
import threading
import time

import pytest

import inkwell_cast.cli.run as running
from inkwell_cast.cli import leaving, main, watched_folder
from inkwell_cast.core.formats import write_mesh
from inkwell_cast.core.settings.material_library import Library, Material
from inkwell_cast.core.settings.receivers import read_receiver
from inkwell_cast.core.settings.recipe import Recipe

from .shapes import torus


@pytest.fixture
def files(tmp_path):
    write_mesh(tmp_path / "ring_low.obj", torus(12, 6))
    write_mesh(tmp_path / "ring_high.ply", torus(40, 20))
    return tmp_path


def run(*arguments):
    return main([str(own) for own in arguments])


def handoff(files, *options):
    meshes = ["--low", files / "ring_low.obj", "--high", files / "ring_high.ply"]
    return run("handoff", *meshes, "--size", "64", "--samples", "1", *options)


def test_a_handoff_is_made_refused_where_something_is_and_numbered(files, capsys):
    assert handoff(files, "--out", files / "out", "--receiver", "packed masks") == 0
    assert "files and their manifest in" in capsys.readouterr().out
    assert {"ring_normal.png", "ring_masks.png", "ring_low.glb"} <= {file.name for file in (files / "out").iterdir()}
    assert json.loads((files / "out" / "manifest.json").read_text())["receiver"] == "Packed masks"
    assert handoff(files, "--out", files / "out") == 2
    assert "already" in capsys.readouterr().err
    assert handoff(files, "--out", files / "out", "--existing", "number", "--name", "Rope") == 0
    assert (files / "out_2" / "Rope_normal.png").is_file()
    assert handoff(files, "--out", files / "out.zip") == 0
    assert handoff(files, "--out", files / "x", "--receiver", "none such") == 2
    assert "no receiver of this name" in capsys.readouterr().err


def test_a_handoff_is_planned_without_a_ray_and_goes_into_a_folder_of_others(files, monkeypatch, capsys):
    textures = files / "textures"
    textures.mkdir()
    (textures / "flag.png").write_bytes(b"painted")
    with monkeypatch.context() as held:
        held.setattr("inkwell_cast.cli.commands.make", None)  # nothing is baked
        assert handoff(files, "--out", textures, "--plan") == 3
        assert "cannot be" in capsys.readouterr().out
        assert handoff(files, "--out", textures, "--shared", "--plan", "--json") == 0
    (plan,) = json.loads(capsys.readouterr().out)
    assert os.listdir(textures) == ["flag.png"]
    assert handoff(files, "--out", textures, "--shared") == 0
    assert "new" in capsys.readouterr().out
    assert set(os.listdir(textures)) == {file["file"] for file in plan["files"]} | {"flag.png"}
    assert handoff(files, "--out", textures, "--shared") == 0
    assert "the same" in capsys.readouterr().out
    (textures / "ring_normal.png").write_bytes(b"painted over")
    assert handoff(files, "--out", textures, "--shared") == 2
    assert "ring_normal.png changed there" in capsys.readouterr().err
    assert handoff(files, "--out", textures, "--shared", "--existing", "replace") == 0


def test_receivers_are_listed_shown_and_made(files, capsys):
    assert run("receivers") == 0
    assert "Green down" in capsys.readouterr().out
    assert run("receivers", "schema") == 0
    assert json.loads(capsys.readouterr().out)["title"] == "Receiver"
    made = files / "mine.json"
    assert run("receivers", "make", "--name", "Mine", "--out", made, "--set", "basis.green=down") == 0
    assert read_receiver(made.read_text(), "mine").basis.green == "down"
    capsys.readouterr()
    assert run("receivers", "show", made) == 0
    assert read_receiver(capsys.readouterr().out, "x").name == "Mine"
    assert handoff(files, "--out", files / "out", "--receiver", made) == 0
    assert json.loads((files / "out" / "manifest.json").read_text())["bake"]["recipe"]["basis"]["green"] == "down"


def test_recipes_are_shown_judged_and_described(files, capsys):
    good, bad, piece = files / "good.json", files / "bad.json", files / "ring.icast"
    good.write_text('{"sheet": {"width": 256}}')
    bad.write_text('{"sheet": {"width": 3}, "reach": {"outwards": 2}}')
    meshes = ["--low", files / "ring_low.obj", "--high", files / "ring_high.ply"]
    assert run("piece", "save", *meshes, "--out", piece) == 0
    capsys.readouterr()
    assert run("recipe", "validate", good, piece) == 0
    assert run("recipe", "validate", good, bad, files / "none.json") == 2
    told = capsys.readouterr().out
    assert "sheet.width: 3 cannot be used" in told
    assert "reach.outwards" in told
    assert "none.json: The recipe cannot be read" in told
    assert run("recipe", "show", good, "--changed") == 0
    assert json.loads(capsys.readouterr().out) == {"sheet": {"width": 256}}
    assert run("recipe", "show", good) == 0
    assert Recipe.model_validate_json(capsys.readouterr().out).sheet.width == 256
    assert run("recipe", "schema") == 0
    assert "sheet" in json.loads(capsys.readouterr().out)["properties"]
    assert run("settings", "--json") == 0
    rows = {row["name"]: row for row in json.loads(capsys.readouterr().out)}
    assert rows["sheet.width"]["values"]["minimum"] == 16
    assert rows["occlusion.noise"]["unit"] == "of white"
    for group in Recipe.model_fields:  # every one, and each as it is by default
        assert any(name == group or name.startswith(f"{group}.") for name in rows), group
    assert rows["sheet.width"]["default"] == Recipe().sheet.width


def test_a_reader_that_stops_is_no_fault():
    command = f"{sys.executable} -m inkwell_cast.cli settings --json | head -1"
    done = subprocess.run(["bash", "-c", command], capture_output=True, text=True, check=True)
    assert (done.stdout, done.stderr) == ("[\n", "")


def test_a_piece_is_saved_shown_and_baked(files, capsys):
    library = files / "lib.json"
    library.write_text(Library(materials=[Material(name="Brass")]).portable())
    piece = files / "ring.icast"
    meshes = ["--low", files / "ring_low.obj", "--high", files / "ring_high.ply"]
    assert run("piece", "save", *meshes, "--library", library, "--name", "Rope", "--out", piece) == 0
    assert run("piece", "show", piece) == 0
    assert "Rope: 2 meshes" in capsys.readouterr().out
    assert run("piece", "show", piece, "--json") == 0
    assert json.loads(capsys.readouterr().out)["recipe"]["library"]["materials"][0]["name"] == "Brass"
    assert run("library", piece, "--out", files / "out.json") == 0
    assert json.loads((files / "out.json").read_text())["materials"][0]["name"] == "Brass"
    assert run("handoff", piece, "--size", "64", "--samples", "1", "--out", files / "out") == 0
    assert (files / "out" / "Rope_normal.png").is_file()
    assert run("check", piece) in (0, 3)
    assert run("piece", "save", *meshes, "--out", files / "ring.zip") == 2
    assert run("bake", piece, files / "ring_low.obj", "--out", files / "b") == 2
    assert run("library", "--out", files / "none.json") == 2
    piece.write_bytes(piece.read_bytes()[:200])
    assert run("bake", piece, "--out", files / "b") == 2
    assert "ring.icast" in capsys.readouterr().err


def test_an_earlier_bake_is_handed_off_and_nothing_is_baked(files, capsys, monkeypatch):
    meshes = ["--low", files / "ring_low.obj", "--high", files / "ring_high.ply"]
    small = ["--size", "32", "--samples", "1", "--maps", "normal,occlusion"]
    assert run("bake", *meshes, *small, "--format", "tga", "--out", files / "maps") == 0
    monkeypatch.setattr(leaving, "baked", None)
    assert run("handoff", *meshes, "--baked", files / "maps", "--name", "rope", "--out", files / "out") == 0
    assert (files / "out/rope_normal.tga").read_bytes() == (files / "maps/normal.tga").read_bytes()
    assert (files / "out/rope_low.glb").is_file()
    capsys.readouterr()

    def refused(*given):
        assert run("handoff", *given, "--out", files / "other") == 2
        assert not (files / "other").exists()
        return capsys.readouterr().err

    assert "takes cavity, which" in refused(*meshes, "--baked", files / "maps", "--receiver", "packed masks")
    assert "It names no folder" in refused(*meshes, "--baked")
    assert "It holds no bake" in refused(*meshes, "--baked", files)
    assert "was made of this mesh too" in refused("--low", files / "ring_low.obj", "--baked", files / "maps")
    (files / "maps/normal.tga").write_bytes(b"")
    assert "This map changed since the bake" in refused(*meshes, "--baked", files / "maps")
    (files / "maps/normal.tga").unlink()
    assert "This map of the bake is gone" in refused(*meshes, "--baked", files / "maps")
    write_mesh(files / "ring_low.obj", torus(14, 8))
    assert "ring_low.obj: It changed since the bake" in refused(*meshes, "--baked", files / "maps")


def test_floats_that_nothing_shows_are_not_handed_off_later(files, capsys):
    meshes = ["--low", files / "ring_low.obj", "--high", files / "ring_high.ply"]
    assert (
        run(
            "bake",
            *meshes,
            "--size",
            "32",
            "--samples",
            "1",
            "--format",
            "exr",
            "--depth",
            "16",
            "--out",
            files / "maps",
        )
        == 0
    )
    assert run("handoff", *meshes, "--baked", files / "maps", "--out", files / "out") == 2
    assert "no picture to show and pack" in capsys.readouterr().err


@pytest.fixture
def shelf(files):
    """A folder with one piece that can be baked and one that cannot, and a small recipe."""
    folder = files / "shelf"
    folder.mkdir()
    for name in ("ring_low.obj", "ring_high.ply"):
        (files / name).rename(folder / name)
    write_mesh(folder / "lone_low.obj", torus(12, 6))
    recipe = files / "small.json"
    recipe.write_text(Recipe.model_validate({"sheet": {"width": 64, "height": 64, "samples": 1}}).model_dump_json())
    return folder, ["--recipe", recipe, "--out", files / "out"]


@pytest.mark.deep
def test_a_batch_goes_on_after_a_failure_resumes_and_says_what_became_of_each(files, shelf, capsys):
    folder, options = shelf
    assert run("run", folder, *options, "--plan") == 3
    told = capsys.readouterr().out
    assert "ring_normal.png" in told
    assert "lone into" in told
    assert not (files / "out").exists()
    assert run("run", folder, *options) == 3
    told = capsys.readouterr()
    assert "1 failed" in told.out
    assert "ring: done" in told.err
    summary = json.loads((files / "out" / "summary.json").read_text())
    assert {own["piece"]: own["state"] for own in summary["outcomes"]} == {"lone": "failed", "ring": "done"}
    made = (files / "out" / "ring" / "manifest.json").stat().st_mtime_ns
    write_mesh(folder / "lone_high.ply", torus(40, 20))  # what was wrong is mended
    assert run("run", folder, *options, "--jobs", "2") == 0
    told = capsys.readouterr()
    assert "ring: as before" in told.err
    assert (files / "out" / "ring" / "manifest.json").stat().st_mtime_ns == made
    assert (files / "out" / "lone" / "lone_normal.png").is_file()
    assert run("run", folder, *options, "--limit", "mean 60, missed 100 %") == 0
    assert run("run", folder, *options, "--limit", "mean 0.01") == 3
    assert "2 beyond a limit" in capsys.readouterr().out
    summary = json.loads((files / "out" / "summary.json").read_text())
    assert all("beyond 0.01°" in own["beyond"][0] for own in summary["outcomes"])
    assert run("run", folder, *options, "--limit", "beauty 3") == 2
    assert run("run", files / "nowhere", *options) == 2


def test_a_watched_folder_is_baked_again_when_it_changes(files, shelf, monkeypatch, capsys):
    folder, options = shelf
    (folder / "lone_low.obj").unlink()
    monkeypatch.setattr(watched_folder, "LOOK_EVERY", 0.05)
    made, rounds, whole = files / "out" / "ring" / "manifest.json", [], running.Batch.round

    def counted(batch, items, out):
        if len(rounds) == 2:
            raise KeyboardInterrupt
        rounds.append(whole(batch, items, out))
        return rounds[-1]

    monkeypatch.setattr(running.Batch, "round", counted)

    def touch():
        for _ in range(2):
            before = len(rounds)
            while len(rounds) == before and before < 2:
                time.sleep(0.02)
            now = time.time_ns() + 10**9 * (before + 1)
            (folder / "ring_low.obj").write_text((folder / "ring_low.obj").read_text() + "\n# touched\n")
            os.utime(folder / "ring_low.obj", ns=(now, now))

    thread = threading.Thread(target=touch)
    thread.start()
    code = run("run", folder, *options, "--watch")
    thread.join()
    assert code == 130
    assert [own.outcomes[0].state for own in rounds] == ["done", "done"]
    assert rounds[0].outcomes[0].inputs != rounds[1].outcomes[0].inputs
    assert made.is_file()
