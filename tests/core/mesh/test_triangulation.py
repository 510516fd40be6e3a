import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from inkwell_cast.core.mesh.triangulation import triangulate


def cut(points):
    points = np.asarray(points, np.float32)
    picks, faces = triangulate(np.array([len(points)]), np.arange(len(points)), points)
    assert (faces == 0).all()
    return picks


def area(points, picks):
    p = np.asarray(points, np.float64)[picks]
    return np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])[:, 2].sum() / 2


def flat(points):
    return [(x, y, 0) for x, y in points]


def test_a_quad_is_cut_along_its_shorter_diagonal():
    kite = flat([(0, 0), (2, -0.5), (4, 0), (2, 0.5)])
    assert cut(kite).tolist() == [[1, 2, 3], [1, 3, 0]]
    assert cut(flat([(0, 0), (1, 0), (1, 1), (0, 1)])).tolist() == [[0, 1, 2], [0, 2, 3]]


def test_a_concave_quad_is_cut_where_it_stays_inside():
    arrow = flat([(0, 0), (3, 3), (0, 0.5), (-3, 3)])
    picks = cut(arrow)
    p = np.array(arrow)[picks]
    assert (np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])[:, 2] > 0).all()


@pytest.mark.parametrize(
    "points",
    [
        [(0, 0), (4, 0), (4, 3), (2, 1), (0, 3)],
        [(0, 0), (5, 0), (5, 5), (4, 5), (4, 1), (1, 1), (1, 5), (0, 5)],
    ],
)
def test_a_concave_polygon_keeps_its_area_and_winding(points):
    picks = cut(flat(points))
    p = np.array(flat(points), float)[picks]
    areas = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])[:, 2] / 2
    x, y = np.array(points, float).T
    assert (areas > 0).all()
    assert areas.sum() == pytest.approx((x * np.roll(y, -1) - y * np.roll(x, -1)).sum() / 2)


@settings(max_examples=60, deadline=None)
@given(st.integers(3, 40), st.integers(0, 10_000))
def test_star_shaped_polygons(count, seed):
    random = np.random.default_rng(seed)
    angle = np.sort((np.arange(count) + random.random(count) * 0.6) / count * 2 * np.pi)
    radius = 0.4 + random.random(count)
    points = np.stack([radius * np.cos(angle), radius * np.sin(angle), 0 * angle], axis=1)
    picks = cut(points)
    x, y, _ = points.astype(np.float32).astype(float).T
    assert len(picks) == count - 2
    assert area(points.astype(np.float32), picks) == pytest.approx(
        (x * np.roll(y, -1) - y * np.roll(x, -1)).sum() / 2, rel=1e-5
    )


def test_triangles_pass_through_and_lines_give_none():
    points = np.eye(3, dtype=np.float32)
    picks, faces = triangulate(np.array([3, 2, 3]), np.array([0, 1, 2, 0, 1, 2, 1, 0]), points)
    assert picks.tolist() == [[0, 1, 2], [5, 6, 7]]
    assert faces.tolist() == [0, 2]


def test_folded_polygons_end():
    assert len(cut([(0, 0, 0), (1, 0, 0), (0, 0, 0), (1, 0, 0), (0, 0, 0), (2, 0, 0)])) == 4
