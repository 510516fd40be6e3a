"""Layers of detail: names to levels, coarser ones differ more, and from afar less."""

import json
from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest

from inkwell_cast.cli import main
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.checks import check
from inkwell_cast.core.checks.apply_remedy import apply
from inkwell_cast.core.formats import write_mesh
from inkwell_cast.core.handoff.bake_lods import bake_lods, lods_of
from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.review.from_afar import DISTANCES
from inkwell_cast.core.settings.editing import at_lod
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import torus

RECIPE = Recipe(
    reach=Reach(unit="scene", outward=0.4, inward=0.4),
    sheet=Sheet(width=128, height=128, samples=4),
    output=Output(maps=["normal"], depth=16),
)


@pytest.fixture(scope="module")
def ring():
    lows = [torus(around, around // 2, name=f"ring_LOD{n}_low") for n, around in enumerate((48, 16, 8))]
    return BakeMeshes(lows, [replace(torus(192, 96, name="ring_high"), uvs=())])


def test_each_level_is_its_lows_with_all_that_has_none(ring):
    assert lods_of(ring) == [0, 1, 2]
    joined = merge([ring.lows[0], ring.lows[2]], "rings.glb")
    assert lods_of(BakeMeshes([joined], ring.highs)) == [0, 2]
    for given in (ring, BakeMeshes([joined], ring.highs)):
        for level in (0, 2):
            own = assemble(at_lod(RECIPE, str(level)), given)
            assert len(own.low.triangles) == len(ring.lows[level].triangles)
            assert [pair.name for pair in own.paired.pairs] == ["ring"]
            assert not own.paired.alone
            assert len(own.paired.elsewhere) == len(lods_of(given)) - 1
    with pytest.raises(InputProblem, match="No name says a level"):
        lods_of(BakeMeshes([torus(8, 4)], ring.highs))


def test_several_levels_on_one_sheet_are_told_with_a_remedy(ring):
    named = BakeMeshes([], [], [*ring.lows, *ring.highs])
    told = next(f for f in check(RECIPE, named) if f.title == "Several levels of detail")
    assert "0, 1, 2" in told.what
    cured = apply(RECIPE, told.fix)
    assert cured.pairing.level == "0"
    assert not [f for f in check(cured, named) if f.kind == "pairs"]


@pytest.mark.deep
def test_a_coarser_level_differs_more_and_all_differ_less_from_afar(ring):
    rows = [own.facts for own in bake_lods(RECIPE, ring)]
    assert [own.level for own in rows] == [0, 1, 2]
    for near, far in pairwise(DISTANCES):
        assert all(own.differs[far] <= own.differs[near] + 1e-3 for own in rows)
    for pixels in DISTANCES:
        assert rows[0].differs[pixels] < rows[1].differs[pixels] < rows[2].differs[pixels]
    assert rows[0].differs[256] < 0.05


@pytest.mark.deep
def test_levels_that_share_their_uvs_wear_the_maps_of_the_first(ring):
    own, shared = bake_lods(RECIPE, ring), bake_lods(RECIPE, ring, share=True)
    assert [each.facts.worn for each in shared] == [0, 0, 0]
    assert shared[0].facts == own[0].facts
    assert shared[2].facts.seen > own[2].facts.seen + 1  # normals of another low, in its own basis


@pytest.mark.deep
def test_the_command_writes_a_folder_a_level_and_a_table(ring, tmp_path, capsys):
    for low in ring.lows:
        write_mesh(tmp_path / f"{low.name}.obj", low)
    write_mesh(tmp_path / "ring_high.ply", ring.highs[0])
    files = [str(tmp_path / f"{low.name}.obj") for low in ring.lows] + [str(tmp_path / "ring_high.ply")]
    settings = ["--size", "64", "--samples", "1", "--reach", "0.4", "0.4", "--progress", "none"]
    assert main(["lods", *files, "--out", str(tmp_path / "out"), *settings]) == 0
    rows = json.loads((tmp_path / "out" / "levels.json").read_text())
    assert [row["level"] for row in rows] == [0, 1, 2]
    assert all((tmp_path / "out" / f"lod{n}" / "manifest.json").is_file() for n in range(3))
    assert "256 px" in capsys.readouterr().out
    assert main(["lods", *files, "--out", str(tmp_path / "one"), "--share", *settings]) == 0
    assert not (tmp_path / "one" / "lod1").exists()
    assert "wears the maps of level 0" in capsys.readouterr().out
    assert np.isfinite([row["seen"] for row in rows]).all()
