from itertools import pairwise

import pytest

from inkwell_cast.engine.remaining_time import RemainingTime


def paced(shares, every=1.0):
    made = RemainingTime(began=0.0)
    for n, share in enumerate(shares, 1):
        made.heard(share, n * every)
    return made


def test_an_even_job_ends_when_it_says():
    made = paced([n / 100 for n in range(1, 51)])
    assert made.seconds_left(50.0) == pytest.approx(50, rel=0.05)


def test_nothing_is_told_before_there_is_anything_to_go_by():
    assert RemainingTime(began=0.0).seconds_left(10.0) is None
    assert paced([0.01]).seconds_left(1.0) is None


def test_a_slow_stretch_is_noticed_within_it_and_not_averaged_away():
    """Half in ten seconds, then a stage of which a thousandth is done each second: it takes 500 s, not ten."""
    made = paced([0.05 * n for n in range(1, 11)])
    for n in range(11, 31):
        made.heard(0.5 + 0.001 * (n - 10), float(n))
    assert made.seconds_left(30.0) == pytest.approx(480, rel=0.2)


def test_an_estimate_grows_while_nothing_is_done():
    made = paced([0.1 * n for n in range(1, 6)])
    told = [made.seconds_left(5.0 + waited) for waited in (0.0, 1.0, 1.9)]
    assert told == sorted(told)
    assert told[-1] > 1.3 * told[0]
    assert made.seconds_left(100.0) is None  # so long that nothing can be told


def test_what_is_told_never_rises_by_more_than_a_third_within_seconds():
    """Three quarters go by in a second, the rest takes eighty: what is told follows, and never jumps."""
    made, told = RemainingTime(began=0.0), []
    for second in range(80):
        made.heard(0.75 + 0.25 * second / 80 if second else 0.7, now=1.0 + second)
        told.append(made.seconds_left(1.0 + second))
    assert all(later <= earlier * 4 / 3 + 1e-9 for earlier, later in pairwise(told))
    assert max(told[:5]) < 2, "it jumped"
    assert told[60] == pytest.approx(20, rel=0.35), "it never found out"
