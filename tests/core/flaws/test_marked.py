"""Flaws in the order in which they are noticed: each is told once, and only what is shown has its mends laid."""

import numpy as np

from inkwell_cast.core.flaws.flaw import Flaw
from inkwell_cast.core.flaws.marked import MOST_FLAWS, MarkedFlaw, told_once
from inkwell_cast.core.flaws.places import _sums_within
from inkwell_cast.core.settings.mends import Mend


def flaw(share):
    words = {"part": "low.obj/brush", "what": "It looks wrong.", "remedy": "Straighten it."}
    return Flaw(
        cause="back", title="Back face", middle=(0, 0, 0), radius=1, area=1, error=9, share=share, mends=[], **words
    )


def straightened():
    return [Mend(name="Flat faces", words="Straighten all flat faces", straighten=True)]


def test_a_check_whose_cure_a_flaw_of_texels_has_is_told_by_that():
    told = flaw(0.1)
    told.mends = straightened()
    of_check, of_texels = MarkedFlaw(told, None, None), MarkedFlaw(flaw(0.2), None, None, lay=straightened)
    assert told_once([of_texels, of_check]) == [of_texels]
    other = MarkedFlaw(flaw(0.2), None, None, lay=list)
    assert told_once([other, of_check]) == [other, of_check]


def test_of_two_checks_with_one_cure_the_worse_is_told():
    one, other = flaw(0.2), flaw(0.1)
    one.mends, other.mends = straightened(), straightened()
    found = [MarkedFlaw(each, None, None) for each in (one, other)]
    assert told_once(found) == found[:1]


def test_mends_are_laid_for_no_more_than_are_shown():
    laid = []
    many = [MarkedFlaw(flaw(1 / n), None, None, lay=lambda: laid.append(1) or []) for n in range(1, 2 * MOST_FLAWS)]
    told_once(many)
    assert not laid
    told_once([*many, MarkedFlaw(flaw(0.0), None, None)])
    assert len(laid) == MOST_FLAWS


def test_what_lies_near_each_place_is_summed_with_its_own():
    rng = np.random.default_rng(4)
    places, weight = rng.random((200, 3)), rng.random(200)
    away = np.linalg.norm(places[:, None] - places, axis=2)
    assert np.allclose(_sums_within(places, weight, 0.3), (weight * (away <= 0.3)).sum(axis=1))
