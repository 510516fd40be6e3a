"""Compiled kernels are those of the sources as they are."""

import os
import pathlib
import shutil
import subprocess
import sys

import pytest

from inkwell_cast import kernel_cache

PROGRAM = """
import numba, numpy as np
from inkwell_cast.core.mending.patch import _fade_all
from inkwell_cast.core.uv.rasterise import grid
sheet = grid(np.array([[[0, 0], [1, 0], [0, 1]]], np.float32), 8, 8, 1).record
weight = np.full((8, 8), 0.1, np.float32)
_fade_all(np.array([0]), sheet, np.zeros((8, 8), np.int32), 0.5, weight)
print(weight.max(), numba.config.CACHE_DIR)
"""


@pytest.fixture
def copied(tmp_path):
    """A copy of the package's core in a folder of its own."""
    package = pathlib.Path(kernel_cache.__file__).parent
    for name in ("__init__.py", "kernel_cache.py"):
        (tmp_path / "inkwell_cast").mkdir(exist_ok=True)
        shutil.copy(package / name, tmp_path / "inkwell_cast" / name)
    shutil.copytree(package / "core", tmp_path / "inkwell_cast" / "core")
    return tmp_path


def run(folder, kernels=None):
    named = {"PYTHONPATH": str(folder), "INKWELL_CAST_KERNELS": str(kernels or folder / "kernels")}
    environment = {k: v for k, v in os.environ.items() if k != "NUMBA_CACHE_DIR"} | named
    done = subprocess.run([sys.executable, "-c", PROGRAM], capture_output=True, text=True, env=environment, cwd=folder)
    assert done.returncode == 0, done.stderr
    value, place = done.stdout.split()
    return float(value), pathlib.Path(place)


@pytest.mark.deep
def test_a_change_in_another_module_is_seen(copied):
    value, place = run(copied)
    assert value == 1
    assert place.parent == copied / "kernels"
    source = copied / "inkwell_cast/core/rays/modifiers/soft_rim.py"
    text = source.read_text()
    assert text.count("        return 1.0\n    s = (1 - share) / rim") == 1
    source.write_text(
        text.replace("        return 1.0\n    s = (1 - share)", "        return 0.25\n    s = (1 - share)")
    )
    changed, other = run(copied)
    assert changed < 1
    assert other != place


def test_folders_that_only_earlier_states_of_this_installation_used_are_removed(tmp_path, monkeypatch):
    monkeypatch.setenv("INKWELL_CAST_KERNELS", str(tmp_path))
    kernel_cache.note_use()
    current = kernel_cache.folder()
    (mine,) = current.iterdir()
    for name, users in (("kernels-mine", [mine.name]), ("kernels-both", [mine.name, "used-by-0"]), ("kernels-new", [])):
        (tmp_path / name).mkdir()
        for user in users:
            (tmp_path / name / user).write_text(str(tmp_path))  # which is there
    (tmp_path / "else").mkdir()
    kernel_cache.remove_unused()
    kept = {path.name: [note.name for note in path.iterdir()] for path in tmp_path.iterdir()}
    assert kept == {current.name: [mine.name], "kernels-both": ["used-by-0"], "kernels-new": [], "else": []}


@pytest.mark.deep
def test_installations_of_the_same_sources_share_what_is_compiled(copied, tmp_path_factory):
    value, place = run(copied)
    other = tmp_path_factory.mktemp("other")
    shutil.copytree(copied / "inkwell_cast", other / "inkwell_cast")
    before = {path: path.stat().st_mtime_ns for path in place.rglob("*.nb?")}
    assert before
    assert run(other, copied / "kernels") == (value, place)
    assert {path: path.stat().st_mtime_ns for path in place.rglob("*.nb?")} == before


def test_a_process_that_was_started_by_another_uses_the_same_folder(monkeypatch, tmp_path):
    monkeypatch.delenv("INKWELL_CAST_KERNELS", raising=False)
    monkeypatch.setenv("NUMBA_CACHE_DIR", str(tmp_path))
    first = kernel_cache.folder()
    monkeypatch.setenv("NUMBA_CACHE_DIR", str(first))
    assert kernel_cache.folder() == first
