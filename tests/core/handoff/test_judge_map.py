"""A normal map from elsewhere: the reading that fits it is found, and it is judged as a bake is."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.handoff.judge_map import bring_in, judge
from inkwell_cast.core.images import read_picture
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.basis import Basis
from inkwell_cast.core.settings.limits import Limits, beyond, limits_of
from inkwell_cast.core.settings.recipe import Recipe

from ...shapes import grid_mesh, plane, torus
from ..bakes import baked


def rough(u, v):
    """A ring that is wavy both ways."""
    a, b = 2 * np.pi * u, 2 * np.pi * v
    small = 0.7 + 0.03 * np.sin(12 * a) * np.cos(4 * b)
    return (2 + small * np.cos(b)) * np.cos(a), (2 + small * np.cos(b)) * np.sin(a), small * np.sin(b)


LOW, HIGH = torus(24, 12), replace(grid_mesh(240, 80, rough, "high"), uvs=())
MESHES = BakeMeshes([LOW], [HIGH])


@pytest.fixture(scope="module")
def maps():
    """One surface in three readings; texels off the low are empty, as many write them."""
    up = baked(LOW, HIGH, ["normal", "normal_object"], size=128, samples=4)
    down = baked(LOW, HIGH, ["normal"], size=128, samples=4, basis=Basis(green="down"))
    return {
        "tangent space, green up": up.images["normal"],
        "tangent space, green down": down.images["normal"],
        "object space": up.images["normal_object"],
    }


@pytest.mark.parametrize("reading", ["tangent space, green up", "tangent space, green down", "object space"])
def test_the_reading_that_a_map_is_in_is_found(maps, reading):
    judged = judge(Recipe(), MESHES, [maps[reading]])
    assert judged.reading == reading
    assert len(judged.readings) == 3
    assert all(mean > judged.seen.bake.mean + 3 for name, mean in judged.readings.items() if name != reading)
    assert judged.seen.excess < 0.2
    assert judged.missed == 0


def test_a_reading_that_is_given_is_obeyed(maps):
    up = maps["tangent space, green up"]
    wrong = judge(Recipe(), MESHES, [up], Basis(green="down"))
    right = judge(Recipe(), MESHES, [up], Basis())
    assert list(wrong.readings) == ["tangent space, green down"]
    assert wrong.seen.bake.mean > right.seen.bake.mean + 3
    assert wrong.seen.best.mean == pytest.approx(
        right.seen.best.mean, abs=1e-4
    )  # what projection could give depends on no map
    assert judge(Recipe(), MESHES, [maps["object space"]], None).seen.excess < 0.2


def test_a_map_with_a_hole_is_missed_and_seen_so(maps):
    holed = maps["tangent space, green up"].copy()
    holed[:32] = 32768
    judged = judge(Recipe(), MESHES, [holed])
    assert judged.missed == pytest.approx(0.25, abs=0.05)
    assert judged.seen.bake.over_30 > 0.1


@pytest.mark.parametrize(
    ("images", "words"),
    [
        ([np.full((64, 64, 3), 32768, np.uint16)], "hold no normal"),
        ([np.full((64, 64, 3), 40000, np.uint16)] * 2, "2 pictures for 1 sheets"),
        ([np.full((8, 8, 3), 40000, np.uint16)], "8 × 8"),
    ],
)
def test_pictures_that_do_not_fit_are_refused(images, words):
    with pytest.raises(InputProblem, match=words):
        judge(Recipe(), MESHES, images)


def test_a_low_without_uvs_is_refused_by_its_name(maps):
    with pytest.raises(InputProblem, match="UVs"):
        judge(Recipe(), BakeMeshes([replace(plane(), uvs=())], [HIGH]), [maps["object space"]])


def test_limits_are_read_from_words_and_hold(maps):
    limits = limits_of("mean 5, over30 1 %, missed 0, excess 0.2°")
    assert limits == {"mean": 5, "over30": 0.01, "missed": 0, "excess": 0.2}
    seen = judge(Recipe(), MESHES, [maps["object space"]]).seen
    assert beyond(limits, seen.bake.figures(seen.excess, 0)) == []
    assert beyond({"missed": 0.0}, seen.bake.figures(seen.excess, 0.25)) == ["missed is 25.00%, beyond 0.00%"]
    assert beyond({"mean": 0.0}, seen.bake.figures(seen.excess, 0))[0].startswith("mean is ")


@pytest.mark.parametrize("words", [",", "men 5", "mean", "mean 5 %", "over30 1°", "mean five"])
def test_words_that_are_no_limit_are_refused_with_what_is(words):
    with pytest.raises(InputProblem, match="limit"):
        limits_of(words)


def test_a_map_that_was_brought_in_is_kept_as_a_bake_with_its_wrong_places(maps, tmp_path):
    ruined = maps["tangent space, green up"].copy()
    ruined[40:80, 30:90] = [65535, 32768, 32768]
    limits = Limits(words="mean 1")
    brought = bring_in(Recipe(limits=limits), MESHES, [ruined])
    manifest = brought.save(tmp_path)
    assert manifest.brought == "tangent space, green up"
    assert [entry.key for entry in manifest.maps] == ["normal"]
    assert manifest.seen == brought.judged.seen
    assert manifest.beyond == brought.judged.beyond
    assert manifest.beyond[0].startswith("mean is")
    (flaw,) = manifest.flaws
    assert (flaw.cause, flaw.mends, flaw.sheet) == ("elsewhere", [], 0)
    x, y = flaw.texel
    assert 30 <= x < 90
    assert 40 <= y < 80
    for name in ("sides_sculpt.png", "sides_low.png", "sides_heat.png", manifest.sheets[0].heat):
        assert (tmp_path / name).is_file()
    np.testing.assert_array_equal(read_picture(tmp_path / manifest.maps[0].file), ruined)
    healthy = bring_in(Recipe(limits=limits), MESHES, [maps["tangent space, green down"]])
    assert healthy.judged.flaws == []
    assert healthy.judged.seen.excess < 0.02


def test_limits_of_a_recipe_are_read_when_they_are_set():
    with pytest.raises(ValueError, match="“men 5” is no limit"):
        Recipe(limits={"words": "men 5"})
    assert Recipe(limits={"words": " mean 5 "}).limits.by_name == {"mean": 5}
    assert Recipe().limits.by_name == {}
