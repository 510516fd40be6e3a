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


def run(folder):
    named = {"PYTHONPATH": str(folder), "INKWELL_CAST_KERNELS": str(folder / "kernels")}
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


def test_folders_of_older_states_are_removed_and_no_others(tmp_path, monkeypatch):
    monkeypatch.setenv("INKWELL_CAST_KERNELS", str(tmp_path))
    current = kernel_cache.folder()
    older = current.name[: -len(kernel_cache.state())] + "0" * 16
    names = [current.name, older, "kernels-00000000-0000000000000000", "else"]
    for name in names:
        (tmp_path / name).mkdir()
    kernel_cache.remove_older()
    assert sorted(path.name for path in tmp_path.iterdir()) == sorted([names[0], names[2], names[3]])


def test_a_process_that_was_started_by_another_uses_the_same_folder(monkeypatch, tmp_path):
    monkeypatch.delenv("INKWELL_CAST_KERNELS", raising=False)
    monkeypatch.setenv("NUMBA_CACHE_DIR", str(tmp_path))
    first = kernel_cache.folder()
    monkeypatch.setenv("NUMBA_CACHE_DIR", str(first))
    assert kernel_cache.folder() == first
