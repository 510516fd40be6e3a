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


def ring_of_quads(around=24, across=12):
    """The quads of a sphere by latitude and longitude but its poles, and its points (V, 3) float64."""
    u, v = np.meshgrid(np.arange(around), np.arange(1, across), indexing="ij")
    height, angle = np.pi * v.ravel() / across, 2 * np.pi * u.ravel() / around
    points = np.stack([np.sin(height) * np.cos(angle), np.cos(height), np.sin(height) * np.sin(angle)], axis=1)
    row = np.arange(around * (across - 1)).reshape(around, across - 1)
    after = np.roll(row, -1, axis=0)
    return points, np.stack([row[:, :-1], row[:, 1:], after[:, 1:], after[:, :-1]], axis=-1).reshape(-1, 4)


def turned(angle):
    c, s = np.cos(angle), np.sin(angle)
    return np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]]) @ np.array([[1, 0, 0], [0, c, -s], [0, s, c]])


SAME_SHAPE = {
    "a hundred times as large": lambda p: p * 100,
    "a hundredth": lambda p: p * 0.01,
    "moved": lambda p: p + np.array([0.3, -7.1, 2.7]),
    "turned": lambda p: p @ turned(0.7),
    "in inches": lambda p: p / 2.54,
}


@pytest.mark.parametrize("change", SAME_SHAPE)
@pytest.mark.parametrize("sides", [4, 5, 7, 12])
def test_a_mesh_exported_otherwise_is_cut_alike(change, sides):
    """Quads of a sphere, whose diagonals are equally long but for rounding, and regular polygons."""
    if sides == 4:
        points, faces = ring_of_quads()
    else:
        angle = 2 * np.pi * np.arange(sides) / sides
        points, faces = np.stack([np.cos(angle), np.sin(angle), 0 * angle], axis=1), np.arange(sides)[None]
    counts, corners = np.full(len(faces), sides), faces.reshape(-1)
    once, again = (
        triangulate(counts, corners, np.asarray(p, np.float32))[0] for p in (points, SAME_SHAPE[change](points))
    )
    np.testing.assert_array_equal(once, again)


def test_a_quad_with_three_corners_in_line_is_cut_into_no_flat_triangle():
    for middle in (1.0, 1.0 + 1e-7):
        picks = cut([(0, 0, 0), (middle, 0, 0), (2, 0, 0), (1, 2, 0)])
        assert area([(0, 0, 0), (1, 0, 0), (2, 0, 0), (1, 2, 0)], picks[:1]) > 0.5
