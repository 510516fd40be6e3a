"""What farms and pipelines need of the command line: progress for programs, what follows, stopping, files to follow."""

import json
import pathlib
import re
import shlex
import signal
import subprocess
import sys

import pytest

from inkwell_cast import demo
from inkwell_cast.cli import bar, main
from inkwell_cast.cli.bar import Bar
from inkwell_cast.cli.commands import say_flaws
from inkwell_cast.core.flaws.flaw import Flaw
from inkwell_cast.core.formats import write_mesh
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe

from .shapes import torus

ROOT = pathlib.Path(__file__).parent.parent


@pytest.fixture
def clock(monkeypatch):
    """Time that passes as a test says."""
    now = [100.0]
    monkeypatch.setattr(bar.time, "monotonic", lambda: now[0])
    return now


def test_in_a_pipe_there_is_a_line_a_second_at_most(clock, capsys):
    told = Bar("lines")
    for tenth in range(31):
        clock[0] = 100 + tenth / 10
        told.show("casting rays", tenth / 60)
    told.end()
    lines = capsys.readouterr().err.splitlines()
    assert lines == ["17% casting rays, 5 s left", "33% casting rays, 4 s left", "50% casting rays, 3 s left"]


def test_programs_get_json_and_who_wants_nothing_gets_nothing(clock, capsys):
    told, silent = Bar("json"), Bar("none")
    clock[0] += 2
    told.show("maps", 0.5)
    silent.show("maps", 0.5)
    assert json.loads(capsys.readouterr().err) == {"stage": "maps", "share": 0.5, "seconds_left": 2.0}


@pytest.fixture
def ring(tmp_path):
    write_mesh(tmp_path / "ring_low.obj", torus(20, 10, name="ring_low"))
    write_mesh(tmp_path / "ring_high.ply", torus(40, 20))
    return [str(tmp_path / "ring_low.obj"), str(tmp_path / "ring_high.ply")]


def test_what_follows_is_run_however_it_ended(ring, tmp_path, capfd):
    after = f"{shlex.quote(sys.executable)} -c \"import os; print('after', os.environ['INKWELL_CAST_EXIT_CODE'], os.environ['INKWELL_CAST_OUT'])\""
    usual = ["--out", str(tmp_path / "out"), "--size", "16", "--maps", "height"]
    assert main(["bake", *ring, *usual, "--on-done", after]) == 0
    assert f"after 0 {tmp_path / 'out'}" in capfd.readouterr().out
    assert main(["bake", *ring, *usual, "--set", "sheet.samples=5", "--on-done", after]) == 2
    assert "after 2 " in capfd.readouterr().out
    assert main(["bake", *ring, *usual, "--on-done", "exit 7"]) == 0
    assert "--on-done ended with exit code 7" in capfd.readouterr().err


def test_flaws_are_told_by_cause_with_their_places():
    def flaw(cause, part):
        return Flaw(
            cause=cause,
            title=f"The {cause}",
            part=part,
            what=f"It is {cause}.",
            remedy="Mend it.",
            middle=(0, 0, 0),
            radius=1,
            area=1,
            error=1,
        )

    with pytest.MonkeyPatch.context() as patch:
        lines = []
        patch.setattr("builtins.print", lines.append)
        say_flaws([flaw("gap", f"a.obj/part{n}") for n in range(5)] + [flaw("wave", "a.obj/rim")])
    assert lines == [
        "flaw: the gap in 5 places, part0, part1, part2 and 2 more: It is gap. Mend it.",
        "flaw: the wave, rim: It is wave. Mend it.",
    ]


def test_ctrl_c_ends_a_long_bake_and_leaves_no_process(ring, tmp_path):
    command = [sys.executable, "-m", "inkwell_cast.cli", "bake", *ring, "--out", str(tmp_path / "out")]
    long = ["--size", "2048", "--maps", "occlusion", "--set", "occlusion.rays=4096", "occlusion.noise=0"]
    process = subprocess.Popen(
        [*command, *long, "--progress", "json"],
        stderr=subprocess.PIPE,
        text=True,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # a runner in the background ignores it
    )
    for line in process.stderr:
        if '"casting' in line:
            break
    process.send_signal(signal.SIGINT)
    _, said = process.communicate(timeout=60)
    assert process.returncode == 130
    assert "stopped" in said
    assert not (tmp_path / "out").exists()


def small_demo(name):
    """A demo piece with little to bake, under the names of a true one."""

    def write(folder):
        paths = folder / f"{name}_low.glb", folder / f"{name}_high.glb"
        for path, mesh in zip(
            paths, (torus(20, 10, name=f"{name}_low"), torus(40, 20, name=f"{name}_high")), strict=True
        ):
            write_mesh(path, mesh)
        return paths

    return demo.DemoPiece(name, Recipe(reach=Reach(unit="scene", outward=0.1, inward=0.1)), write)


@pytest.mark.deep
def test_the_demo_has_the_files_that_the_readme_names(tmp_path, capsys):
    assert main(["demo", "--write", str(tmp_path / "sculpts")]) == 0
    names = {path.name for path in (tmp_path / "sculpts").iterdir()}
    assert {f"{piece}_{role}.glb" for piece in ("inkstand", "gull") for role in ("low", "high")} <= names
    recipes = [str(path) for path in (tmp_path / "sculpts").glob("*.json")]
    assert main(["recipe", "validate", *recipes]) == 0
    assert "reach" in pathlib.Path(recipes[0]).read_text()


@pytest.mark.deep
def test_the_lines_of_the_readme_can_be_followed(tmp_path, monkeypatch, capsys):
    """Each as it stands there, but small, and once instead of watching."""
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(demo, "pieces", lambda: [small_demo("inkstand"), small_demo("gull")])
    section = (ROOT / "README.md").read_text().partition("## From the command line")[2]
    text = re.search(r"```\n(.*?)```", section, re.DOTALL).group(1).replace("\\\n", " ")
    lines = [shlex.split(line)[1:] for line in text.splitlines()]
    assert lines[0][:2] == ["demo", "--write"]
    for line in lines:
        if line[0] in ("bake", "handoff"):
            line = [*(word for word in line if not re.fullmatch(r"\d+x\d+", word) and word != "--size"), "--size", "32"]
        if line[0] == "run":
            small = tmp_path / "small.json"
            small.write_text('{"sheet": {"width": 32, "height": 32, "samples": 1}}')
            line = [*(word for word in line if word != "--watch"), "--recipe", str(small)]
        assert main(line) in ((0, 3) if line[0] in ("run", "check", "coverage") else (0,)), (line, capsys.readouterr())
    assert (tmp_path / "ours.png").is_file()
    assert (tmp_path / "textures" / "gull" / "manifest.json").is_file()
