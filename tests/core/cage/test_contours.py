"""Contour lines on the low of how far a field lies beyond what is held."""

import numpy as np
import pytest

from inkwell_cast.core.cage.contours import contours, marched, nice

from ...shapes import plane

RADIUS = 0.4


def cone(low, many=30_000, height=1.0):
    """A cone over the plane: held outside of its foot, `height` beyond at its middle; places spread by chance."""
    rng = np.random.default_rng(1)
    triangle = rng.integers(0, len(low.triangles), many).astype(np.int32)
    b = np.sort(rng.random((many, 2)), axis=1)
    b = np.stack([b[:, 0], b[:, 1] - b[:, 0], 1 - b[:, 1]], axis=1)
    places = np.einsum("nk,nkc->nc", b, low.positions[low.triangles[triangle]].astype(np.float64))
    away = np.linalg.norm(places[:, :2] - 0.5, axis=1)
    return triangle, b.astype(np.float32), (height * (1 - away / RADIUS)).astype(np.float32)


def test_the_lines_of_a_cone_are_circles_of_their_level_each_with_its_number():
    low = plane(2)
    found = contours(low, *cone(low))
    assert found.step == 0.1
    assert set(np.round(found.levels.astype(float), 6).tolist()) == {round(n / 10, 6) for n in range(10)}
    away = np.linalg.norm(found.lines[..., :2] - 0.5, axis=2)
    np.testing.assert_allclose(away, np.repeat(RADIUS * (1 - found.levels)[:, None], 2, axis=1), atol=0.012)
    for level in (0.0, 0.4):  # all around
        own = found.lines[np.isclose(found.levels, level)]
        length = np.linalg.norm(own[:, 0] - own[:, 1], axis=1).sum()
        assert length == pytest.approx(2 * np.pi * RADIUS * (1 - level), rel=0.05)
    assert {0.2, 0.8} <= set(np.round(found.labels[:, 3].astype(float), 6).tolist())
    np.testing.assert_allclose(
        np.linalg.norm(found.labels[:, :2] - 0.5, axis=1), RADIUS * (1 - found.labels[:, 3]), atol=0.012
    )


def test_what_is_held_has_no_lines():
    low = plane(2)
    triangle, b, beyond = cone(low)
    found = contours(low, triangle, b, beyond - 1.5)
    assert (len(found.lines), len(found.labels), found.step) == (0, 0, 0.0)


def test_a_triangle_is_cut_where_its_values_are_nothing():
    corners = np.array([[[0, 0, 0], [1, 0, 0], [0, 1, 0]]] * 3, np.float64)
    lines = marched(corners, np.array([[-1.0, 1, 1], [3, -1, -1], [1, 1, 1]]))
    np.testing.assert_allclose(np.sort(lines.reshape(2, -1), axis=1)[:, -2:], [[0.5, 0.5], [0.75, 0.75]])


@pytest.mark.parametrize(("value", "least"), [(0.9, 0.5), (2.0, 2.0), (0.0499, 0.02), (7e5, 5e5), (1.99, 1.0)])
def test_steps_are_round(value, least):
    assert nice(value) == pytest.approx(least)
