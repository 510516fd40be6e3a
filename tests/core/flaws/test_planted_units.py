"""Mistakes of the planted set that took a detector of their own: each is told by its cause, its twin is silent."""

import numpy as np
import pytest

from bench.planted import healthy, mistakes
from bench.planted.assets import together
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.checks import check
from inkwell_cast.core.settings.mends_overlay import add_mend

SEED = 3


def asset_of(make, *wrong, seed=SEED):
    unit = make(np.random.default_rng(seed), *wrong)
    return together(seed, [unit], [""], {}, np.random.default_rng(seed))


def flaws_of(make, *wrong, seed=SEED):
    one = asset_of(make, *wrong, seed=seed)
    return bake(one.recipe, one.meshes).flaws().flaws


@pytest.mark.parametrize(
    ("make", "cause", "title"),
    [
        (mistakes.islands_overlap, "overlap", "Overlapping islands"),
        (healthy.mirrored_halves, "overlap", "Shared place, unlike sculpts"),
        (mistakes.folded_uvs, "folded", "Folded UVs"),
        (mistakes.hard_without_seam, "hard_edge", "Hard edge without a seam"),
        (mistakes.shell_beyond, "outside", "Sculpt outside the cage"),
    ],
)
def test_a_mistake_is_told_by_its_cause_alone_and_its_twin_is_silent(make, cause, title):
    told = flaws_of(make, True)
    assert {(flaw.cause, flaw.title) for flaw in told} == {(cause, title)}
    assert flaws_of(make, False) == []


def test_leaning_is_told_where_straight_rays_look_better_and_its_first_mend_makes_them_so():
    one = asset_of(mistakes.leaning, True)
    made = bake(one.recipe, one.meshes)
    before = made.judgement()
    told, mended = made.flaws(before).flaws, one.recipe
    assert {flaw.cause for flaw in told} == {"leaning"}
    for flaw in told:
        assert "Straight rays would look" in flaw.what
        mended = add_mend(mended, flaw.mends[0])
    after = bake(mended, one.meshes).judgement()
    assert after.to_mend < 0.5 * before.to_mend


@pytest.mark.parametrize("make", [healthy.bolts_through, healthy.hand, healthy.lid_over_hollow, healthy.slanted_bevels])
def test_what_is_healthy_in_the_field_is_silent(make):
    for seed in (SEED, SEED + 1):
        assert flaws_of(make, seed=seed) == []


def test_an_open_sheet_has_no_volume_that_could_be_turned_over():
    """Of two that mirror each other one encloses less than nothing from any one point; from another it does not."""
    for make in (healthy.mirrored_halves, healthy.lid_over_hollow):
        one = asset_of(make)
        assert not [finding for finding in check(one.recipe, one.meshes) if finding.check == "winding"]
    one = asset_of(mistakes.sculpt_inside_out, True)
    assert [finding for finding in check(one.recipe, one.meshes) if finding.check == "winding"]
