"""The rims of patches: circles on a plane, and a rim that is dragged reaches to where it is dragged."""

import numpy as np
import pytest

from inkwell_cast.core.cage.patch_rims import radius_to, rims_of
from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.rays.along_surface import Ground

from ...shapes import cube, plane


def test_on_a_plane_they_are_circles_the_soft_one_inside():
    low = plane(3)
    (drawn,) = rims_of(Ground(low), [((0.5, 0.45, 0.01), 0.3, 0.4)])
    assert drawn.middle == pytest.approx((0.5, 0.45, 0.0))
    for lines, radius in ((drawn.rim, 0.3), (drawn.soft, 0.18)):
        np.testing.assert_allclose(np.linalg.norm(lines[..., :2] - (0.5, 0.45), axis=2), radius, rtol=5e-3)
        assert np.linalg.norm(lines[:, 0] - lines[:, 1], axis=1).sum() == pytest.approx(2 * np.pi * radius, rel=0.01)


def test_a_patch_that_is_hard_or_soft_all_over_has_one_rim_and_one_off_the_low_has_none():
    ground = Ground(plane(3))
    hard, soft, off = rims_of(ground, [((0.5, 0.5, 0), 0.3, 0.0), ((0.5, 0.5, 0), 0.3, 1.0), ((0.5, 0.5, 2), 0.3, 0.4)])
    assert (len(hard.soft), len(soft.soft), len(off.rim)) == (0, 0, 0)
    assert min(len(hard.rim), len(soft.rim)) > 50
    assert (
        rims_of(Ground(plane(3).__class__("none", np.zeros((0, 3), np.float32), np.zeros((0, 3), np.int32))), []) == []
    )


def test_several_together_have_one_rim_around_what_they_hold():
    ground = Ground(plane(3))
    (one,) = rims_of(ground, [((0.4, 0.5, 0), 0.2, 0.0), ((0.6, 0.5, 0), 0.2, 0.0)], together=True)
    away = [np.linalg.norm(one.rim[..., :2] - (x, 0.5), axis=2) for x in (0.4, 0.6)]
    np.testing.assert_allclose(np.minimum(*away), 0.2, rtol=0.02)
    around = 2 * 0.2 * (2 * np.pi - 2 * np.arccos(0.1 / 0.2))  # two circles without what lies in the other
    assert np.linalg.norm(one.rim[:, 0] - one.rim[:, 1], axis=1).sum() == pytest.approx(around, rel=0.02)


def test_a_dragged_rim_reaches_to_the_place_along_the_surface_or_straight_where_no_way_leads():
    ground = Ground(cube(2.0))
    (drawn,) = rims_of(ground, [((0.5, 0, 1.0), 0.1, 0.0)], (1.0, 0, 0.25))
    assert drawn.radius == pytest.approx(0.5 + 0.75, abs=1e-6)
    assert np.linalg.norm(drawn.rim - np.array([1.0, 0, 0.25], np.float32), axis=2).min() < 0.05
    apart = Ground(merge([plane(2), plane(2, 0.5, name="other")], "both"))
    assert radius_to(apart, (0.5, 0.5, 0), (0.5, 0.5, 0.5)) == pytest.approx(0.5)
