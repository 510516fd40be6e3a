"""Large sheets are judged at a smaller size, beside a best that belongs to low and sculpt alone."""

import numpy as np
import pytest

from inkwell_cast.core.bake import judged_at
from inkwell_cast.core.review.as_seen import as_seen
from inkwell_cast.core.review.worn_pictures import Pictures
from inkwell_cast.core.settings.regions import Pocket

from ...shapes import plane, ribbed, torus
from ..bakes import baked


@pytest.fixture(scope="module")
def ring():
    return torus(48, 24), torus(192, 96, small=0.72, name="high")


def test_a_large_sheet_is_seen_as_it_was_written_and_judged_at_a_smaller_size(ring, monkeypatch):
    """What is seen of the written picture does not follow the size that places are judged at."""
    made = baked(*ring, ["normal"], size=256, outward=0.1)
    pictures = Pictures([made.images["normal"]])
    whole = made.judgement(pictures)
    monkeypatch.setattr(judged_at, "SIDE", 64)
    made.warm.forget()
    small = made.judgement(pictures)
    assert small.contexts[0].cast.covered.shape == (64, 64)
    assert small.visible[0].excess.shape == (64, 64)
    assert small.seen.whole.mean == pytest.approx(whole.seen.whole.mean, abs=0.03)
    assert small.excess == pytest.approx(whole.excess, abs=0.03)
    assert small.best.whole.mean == pytest.approx(small.seen.whole.mean - small.excess, abs=1e-3)


@pytest.mark.deep
def test_flaws_of_a_large_sheet_name_its_own_texels(monkeypatch):
    """A rib that the reach leaves out: the texel that is named lies where the spot does, whatever size it was found at."""
    high = ribbed("high", 0.2)
    for side in (1024, 64):
        monkeypatch.setattr(judged_at, "SIDE", side)
        made = baked(plane(4), high, ["normal"], size=256, outward=0.05, inward=0.05)
        (shown,) = made.flaws().shown
        x, y = np.array(shown.flaw.texel) / 256
        assert (x, 1 - y) == pytest.approx(shown.flaw.spot[:2], abs=2 / 64)


def test_the_best_on_this_low_does_not_move_with_reach_or_mends(ring):
    """Neither does the picture that it is, to the bit."""
    own = {"pockets": [Pocket(centre=(2.0, 0, 0), radius=0.5, outward=0.0, inward=0.0)]}
    made = [baked(*ring, ["normal"], size=96, outward=reach, **more) for reach, more in ((0.02, {}), (0.3, own))]
    first, second = (one.judgement() for one in made)
    assert first.seen.whole.mean != second.seen.whole.mean
    assert first.best.whole == second.best.whole
    np.testing.assert_array_equal(first.best_pictures.images[0], second.best_pictures.images[0])


def test_a_second_judgement_casts_nothing_anew(ring, monkeypatch):
    made = baked(*ring, ["normal"], size=96, outward=0.1)
    made.judgement()
    monkeypatch.setattr(judged_at, "best_of", lambda *given: pytest.fail("the best is known"))
    made.judgement()


def test_pictures_finer_than_their_contexts_are_read_where_they_lie(ring):
    """A map of twice the size with the same places reads the same to a hundredth of a degree."""
    made = baked(*ring, ["normal"], size=128, outward=0.1)
    picture = made.images["normal"]
    contexts = [sheet.context for sheet in made.sheets]
    nearest = np.repeat(np.repeat(picture, 4, axis=0), 4, axis=1)
    finer = baked(*ring, ["normal"], size=256, outward=0.1).images["normal"]
    one, blocks, fine = as_seen(contexts, [Pictures([picture]), Pictures([nearest]), Pictures([finer])])
    assert blocks.whole.mean == pytest.approx(one.whole.mean, abs=0.5)
    assert fine.whole.mean < one.whole.mean + 0.01
    assert [s.shape for s in fine.sums] == [(128, 128)]
