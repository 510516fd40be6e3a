"""How long a bake will take, by those before."""

import json
from dataclasses import replace

import pytest

from inkwell_cast.core.bake import expected_time
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.core.uv.layout import lay_out_sheets

from ...shapes import torus

MESHES = BakeMeshes([torus(20, 10, name="ring_low")], [replace(torus(60, 30, name="ring_high"), uvs=())])


def recipe_of(size=64, samples=4, maps=("normal", "occlusion")):
    return Recipe(
        reach=Reach(unit="scene", outward=0.2, inward=0.2),
        sheet=Sheet(width=size, height=size, samples=samples),
        output=Output(maps=list(maps)),
    )


@pytest.fixture
def book(tmp_path, monkeypatch):
    kernels = tmp_path / "kernels-x"
    kernels.mkdir()
    monkeypatch.setenv("NUMBA_CACHE_DIR", str(kernels))
    return tmp_path / expected_time.BOOK


def told(recipe):
    assembly = assemble(recipe, MESHES)
    return expected_time.expected(assembly, lay_out_sheets(recipe, assembly.low).sheets)


def test_a_bake_takes_as_long_as_the_last_one_and_in_proportion(book):
    assert told(recipe_of()) is None
    made = bake(recipe_of(), MESHES)
    seconds = {"scene": 1.0, "casting rays": 2.0, "casting occlusion": 8.0, "maps": 0.5, "likeness": 0.25}
    expected_time.learn(made, seconds)
    assert told(recipe_of()) == pytest.approx(sum(seconds.values()), rel=0.1)  # the UVs' area for the texels on them
    assert told(recipe_of(128)) == pytest.approx(1 + 4 * (sum(seconds.values()) - 1), rel=0.1)
    assert told(recipe_of(samples=16)) == pytest.approx(1.75 + 8 + 8, rel=0.1)  # occlusion's rays are a texel's
    assert told(recipe_of(maps=["normal"])) == pytest.approx(1 + 2 + 0.25 + 0.25, rel=0.1)


def test_the_one_in_the_middle_is_believed_and_what_is_too_short_tells_nothing(book):
    made = bake(recipe_of(), MESHES)
    for spent in (2.0, 90.0, 2.0, 0.001):  # the second waited for its compiler, the last was warm
        expected_time.learn(made, {"casting rays": spent, "casting occlusion": 1.0})
    assert told(recipe_of()) == pytest.approx(3, rel=0.1)
    for _ in range(40):
        expected_time.learn(made, {"casting rays": 4.0})
    assert len(json.loads(book.read_text())["stages"]["casting rays"]) == expected_time.KEPT
    assert told(recipe_of()) == pytest.approx(5, rel=0.1)


def test_a_book_that_is_damaged_or_cannot_be_written_harms_nothing(book, monkeypatch):
    made = bake(recipe_of(), MESHES)
    for damaged in ("{", '{"stages": {"casting rays": [[0, 1]]}}', '{"stages": {"casting rays": [[1, NaN]]}}'):
        book.write_text(damaged)
        assert told(recipe_of()) is None
    expected_time.learn(made, {"casting rays": 4.0})
    assert told(recipe_of()) is not None
    monkeypatch.setenv("NUMBA_CACHE_DIR", "/nowhere/kernels-x")
    expected_time.learn(made, {"casting rays": 4.0})
    assert told(recipe_of()) is None


def test_a_time_is_said_as_well_as_it_is_known():
    assert [expected_time.in_words(s) for s in (0.2, 8.4, 89, 95, 3600, 9000)] == [
        "1 second",
        "8 seconds",
        "89 seconds",
        "2 minutes",
        "60 minutes",
        "2 hours",
    ]


def test_what_comes_after_the_maps_has_its_share_by_the_book(book):
    """Half before anything is known; a judge that takes three quarters has them."""
    assembly = assemble(recipe_of(maps=["normal"]), MESHES)
    assert expected_time.share_of_baking(assembly) == 0.5
    made = bake(recipe_of(maps=["normal"]), MESHES)
    on_low = made.cast.texels / made.cast.covered.size
    expected_time.learn(made, {"casting rays": 1.0 * on_low, "likeness": 2.0, "flaws": 1.0})
    assert expected_time.share_of_baking(assembly) == pytest.approx(0.25, abs=0.01)


def test_judging_does_not_grow_with_the_sheet_beyond_the_size_that_it_is_done_at(book):
    expected_time.learn(bake(recipe_of(maps=["normal"]), MESHES), {"casting rays": 1e-2, "likeness": 1.0})
    small, large, huge = (told(recipe_of(size, maps=["normal"])) for size in (64, 1024, 4096))
    assert large == pytest.approx(256 * small, rel=0.1)
    assert huge - large == pytest.approx((64**2 - 16**2) * 1e-2, rel=0.1)  # of rays alone


def test_shares_of_stages_follow_the_book_and_make_up_the_whole(book):
    """A scene that takes nearly all of a bake has most of its share, whatever the defaults say."""
    assembly = assemble(recipe_of(maps=["normal"]), MESHES)
    usual, after = expected_time.shares_of_stages(assembly)
    assert (usual, after) == (expected_time.STAGES, expected_time.SAVING)  # nothing is known yet
    made = bake(recipe_of(maps=["normal"]), MESHES)
    took = {"checking": 0.1, "scene": 98.0, "preparing": 0.1, "casting rays": 1.0, "maps": 0.8}
    expected_time.learn(made, took)
    shares, _ = expected_time.shares_of_stages(assembly)
    assert shares["scene"] == pytest.approx((0.98 + usual["scene"]) / 2, abs=0.03)
    assert sum(shares.values()) == pytest.approx(1)
    told = []
    bake(recipe_of(maps=["normal"]), MESHES, progress=lambda stage, share: told.append((stage, share)))
    ended = dict(told)
    assert [share for _, share in told] == sorted(share for _, share in told)
    assert ended["preparing"] > 0.55
    assert ended["maps"] == pytest.approx(1)
