"""Bakes that would not fit are refused before they start, with what does."""

import mmap
import tracemalloc

import numpy as np
import pytest

from inkwell_cast.core.bake import memory_estimate, pipeline
from inkwell_cast.core.bake.memory_estimate import needed, refuse_too_large
from inkwell_cast.core.base.disk_arrays import free_on_disk, room
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.base.free_memory import free
from inkwell_cast.core.maps import REGISTRY
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import plane
from ..bakes import baked

ALL = Recipe(output=Output(maps=["normal", "occlusion", "position", "ids"]))
PLENTY = 1 << 50


def test_a_bake_that_does_not_fit_names_the_size_that_does():
    sizes = [(8192, 8192)]
    wanted = needed(ALL, sizes)
    assert wanted.disk > 0
    enough = int(wanted.memory / 0.9) + 10, int(wanted.disk / 0.9) + 10
    assert refuse_too_large(ALL, sizes, *enough) == wanted
    with pytest.raises(InputProblem, match=r"needs about .* GB of memory, and .* GB are free.*1024 x 1024 texels fit"):
        refuse_too_large(ALL, sizes, wanted.memory // 2, PLENTY)
    with pytest.raises(InputProblem, match=r"needs about .* GB on disk.*one map at a time.*INKWELL_CAST_SCRATCH"):
        refuse_too_large(ALL, sizes, PLENTY, wanted.disk - 1)


def test_more_maps_samples_and_sheets_need_more():
    plain = Recipe(output=Output(maps=["normal"]))
    assert needed(ALL, [(1024, 1024)]).memory > needed(plain, [(1024, 1024)]).memory
    assert needed(plain, [(1024, 1024)] * 2).memory > 1.5 * needed(plain, [(1024, 1024)]).memory
    assert needed(ALL, [(2048, 2048)]).disk == 0
    every = Recipe(output=Output(maps=list(REGISTRY)), sheet=Sheet(samples=64))
    assert needed(every, [(8192, 8192)]).memory < 4e9


@pytest.mark.parametrize(
    ("maps", "samples"),
    [
        (["normal"], 1),
        (["normal", "height", "position", "ids"], 4),
        (["normal", "occlusion", "thickness", "curvature", "color"], 16),
    ],
)
def test_the_estimate_is_a_little_more_than_the_measured_peak(maps, samples):
    recipe = Recipe(sheet=Sheet(width=512, height=512, samples=samples, padding="fill"), output=Output(maps=maps))
    meshes, small = BakeMeshes([plane(4)], [plane(8, 0.02, name="high")]), Sheet(width=64, height=64, samples=samples)
    first = pipeline.bake(recipe.model_copy(update={"sheet": small}), meshes)  # loads the kernels
    first.flaws(first.judgement())
    tracemalloc.start()
    made = pipeline.bake(recipe, meshes)
    made.flaws(made.judgement())
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert 0.5 < peak / needed(recipe, [(512, 512)]).memory < 1


def test_a_bake_asks_before_it_casts(monkeypatch):
    assert free() > 1e8
    monkeypatch.setattr(pipeline, "free", lambda: 1_000_000)
    with pytest.raises(InputProblem, match="texels fit"):
        pipeline.bake(Recipe(), BakeMeshes([plane()], [plane(1, 0.1, name="high")]))


def test_a_sheet_that_keeps_its_layers_on_disk_gives_the_same_bytes(monkeypatch, tmp_path):
    monkeypatch.setenv("INKWELL_CAST_SCRATCH", str(tmp_path))
    keys = ["normal", "position", "color", "ids", "thickness"]
    high = plane(3, 0.1, name="high")
    plain = baked(plane(), high, keys)
    monkeypatch.setattr(memory_estimate, "IN_MEMORY", 0)
    on_disk = baked(plane(), high, keys)
    assert isinstance(on_disk.cast.normal.base, mmap.mmap)
    assert list(tmp_path.iterdir()) == []  # files without a name, gone with their arrays
    for key in keys:
        np.testing.assert_array_equal(plain.images[key], on_disk.images[key])


def test_a_full_disk_is_told_with_its_place(monkeypatch, tmp_path):
    monkeypatch.setenv("INKWELL_CAST_SCRATCH", str(tmp_path / "nowhere"))
    assert free_on_disk() == 0
    with pytest.raises(InputProblem, match=r"nowhere: There is no room on this disk for 0\.0 GB"):
        room((4, 4), np.float32, on_disk=True)
