import numpy as np
import pytest

from inkwell_cast.core.cage.cage import build_cage
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.review.section import section
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe

from ...shapes import grid_mesh, plane, torus


def slice_of(low, high, triangle, place, outward=0.3, inward=0.2, **kwargs):
    warm = Warm()
    assembly = assemble(
        Recipe(reach=Reach(unit="scene", outward=outward, inward=inward)), BakeMeshes([low], [high]), warm
    )
    return section(assembly, warm.sculpt(assembly), build_cage(assembly), triangle, place, **kwargs)


def step(u, v):
    return u, v, np.where(u < 0.5, 0.2, -0.1)


def test_a_slice_through_a_step_shows_both_levels_and_where_the_rays_end():
    found = slice_of(plane(4), grid_mesh(200, 4, step, "high"), 0, (0.1, 0.05, 0.0))
    assert (found.half_height, found.half_width) == pytest.approx((0.3 * 1.7, 0.3 * 1.7 * 6))
    np.testing.assert_allclose(found.low[:, [1, 3]], 0, atol=1e-6)
    np.testing.assert_allclose(found.cage[:, [1, 3]], 0.3, atol=1e-6)
    heights = found.sculpt[:, [1, 3]]
    assert np.isclose(heights, 0.2, atol=1e-5).sum() > 40
    assert np.isclose(heights, -0.1, atol=1e-5).sum() > 40
    assert all(r.struck for r in found.rays)
    drawn = np.array([r.drawn for r in found.rays])
    np.testing.assert_allclose(drawn[:, :2, 1], [[0.3, 0]] * len(drawn), atol=1e-6)
    np.testing.assert_allclose(drawn[:, 1, 0], drawn[:, 0, 0], atol=1e-6)
    assert (
        np.isclose(np.minimum(abs(drawn[:, 2, 1] - 0.2), abs(drawn[:, 2, 1] + 0.1)), 0, atol=1e-4).sum()
        >= len(drawn) - 1
    )
    for ray in found.rays:  # a plane whose UVs are its x and y
        assert ray.uv == pytest.approx(ray.places[1, :2], abs=1e-6)
    assert [r.normal for r in found.rays].count(pytest.approx((0, 1), abs=1e-5)) >= len(found.rays) - 2
    assert (found.height, found.angle) == pytest.approx((0.2, 0), abs=1e-4)
    assert found.struck == "high"


def test_missed_rays_run_to_their_end():
    found = slice_of(plane(4), plane(4, -0.5, name="high"), 0, (0.1, 0.05, 0.0))
    assert not any(r.struck for r in found.rays)
    assert {round(r.drawn[2, 1], 5) for r in found.rays} == {-0.2}
    assert {r.normal for r in found.rays} == {None}
    assert (found.height, found.struck) == (None, "")


@pytest.mark.parametrize("turned", [0, 37, 90])
def test_a_slice_of_a_torus_is_a_closed_line_with_its_body_to_the_right(turned):
    found = slice_of(
        torus(30, 15),
        torus(400, 200, name="high"),
        5,
        tuple(torus(30, 15).positions[torus(30, 15).triangles[5]].mean(axis=0)),
        turned=turned,
    )
    assert len(found.sculpt) > 50
    lengths = np.hypot(found.sculpt[:, 2] - found.sculpt[:, 0], found.sculpt[:, 3] - found.sculpt[:, 1])
    assert lengths.max() < 0.08
    middle = found.sculpt[
        np.argmin(np.abs(found.sculpt[:, [0, 2]]).max(axis=1) + np.abs(found.sculpt[:, [1, 3]]).max(axis=1))
    ]
    assert middle[2] > middle[0]  # outward is up, so a line with its body to the right runs to the right


@pytest.mark.parametrize(
    ("kwargs", "axis"),
    [
        ({"along": "u"}, 0),
        ({"along": "v"}, 1),
        ({"along": "u", "turned": 90}, 1),
        ({"along": "view", "view": (0, -1, -0.5)}, 0),
        ({"along": "view", "view": (1, 0, -3)}, 1),
    ],
)
def test_a_slice_runs_along_u_along_v_or_across_the_view(kwargs, axis):
    found = slice_of(plane(4), plane(4, 0.1, name="high"), 0, (0.1, 0.05, 0.0), **kwargs)
    places = np.array([r.places[1] for r in found.rays])
    assert np.ptp(places[:, axis]) > 0.5
    np.testing.assert_allclose(places[:, 1 - axis], places[0, 1 - axis], atol=1e-6)


def test_zoom_and_places_off_the_triangle():
    near = slice_of(plane(4), plane(40, 0.1, name="high"), 0, (9, 9, 9), zoom=2)
    assert near.half_height == pytest.approx(0.3 * 1.7 / 2)
    with pytest.raises(ValueError, match="none of the low's 32"):
        slice_of(plane(4), plane(), 32, (0, 0, 0))
