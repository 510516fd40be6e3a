"""Bakes that would not fit are refused before they start, with what does."""

import pytest

from inkwell_cast.core import bake as baking
from inkwell_cast.core.assembly import BakeMeshes
from inkwell_cast.core.errors import InputProblem
from inkwell_cast.core.memory import free, needed, refuse_too_large
from inkwell_cast.core.recipe import Output, Recipe

from ..shapes import plane

ALL = Recipe(output=Output(maps=["normal", "occlusion", "position", "ids"]))


def test_a_bake_that_does_not_fit_names_the_size_that_does():
    sizes = [(8192, 8192)]
    wanted = needed(ALL, sizes)
    refuse_too_large(ALL, sizes, int(wanted / 0.9) + 10)
    with pytest.raises(InputProblem, match=r"needs about .* GB, and .* GB are free.*4096 x 4096 texels fit"):
        refuse_too_large(ALL, sizes, wanted // 2)
    one = ALL.model_copy(update={"output": Output(maps=["normal"])})
    with pytest.raises(InputProblem, match="one map at a time"):
        refuse_too_large(ALL, sizes, int(needed(one, sizes) / 0.9) + 10)


def test_more_maps_samples_and_sheets_need_more():
    plain = Recipe(output=Output(maps=["normal"]))
    assert needed(ALL, [(1024, 1024)]) > needed(plain, [(1024, 1024)])
    assert needed(plain, [(1024, 1024)] * 2) > 1.5 * needed(plain, [(1024, 1024)])
    assert needed(plain, [(8192, 8192)]) < 80 * 8192**2 + 80_000_000 * 8


def test_a_bake_asks_before_it_casts(monkeypatch):
    assert free() > 1e8
    monkeypatch.setattr(baking, "free", lambda: 1_000_000)
    with pytest.raises(InputProblem, match="texels fit"):
        baking.bake(Recipe(), BakeMeshes([plane()], [plane(1, 0.1, name="high")]))
