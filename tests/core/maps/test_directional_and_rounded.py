"""Which way the sculpt faces, and edges that look rounded: closed forms on boxes and balls."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from inkwell_cast.core.settings.directions import way_in
from inkwell_cast.core.settings.maps import Directional, Rounded

from ...shapes import cube, plane
from ..bakes import baked, facts, values
from .test_light import ball

RADIUS = 0.2


def top_of_a_box(rounded, size=64):
    """The map of the upper side of a unit box, as object-space normals (the basis of the plane is that of the file)."""
    low = replace(plane(), positions=plane().positions + np.array([-0.5, -0.5, 0], np.float32))
    made = baked(
        low,
        replace(cube(1.0, (0, 0, -0.5)), uvs=()),
        ["rounded"],
        size=size,
        outward=0.05,
        inward=0.05,
        rounded=rounded,
    )
    normals = 2 * values(made, "rounded") - 1
    return normals / np.linalg.norm(normals, axis=-1, keepdims=True)


def leaning(x, radius=RADIUS):
    """The angle in radians at a distance from the edge of a box: areas of both sides within the ball.

    Of the upper side the disc less its segment beyond the edge, of the other half a disc of what the ball cuts there.
    """
    segment = radius**2 * np.arccos(x / radius) - x * np.sqrt(radius**2 - x**2)
    return np.arctan2(np.pi * (radius**2 - x**2) / 2, np.pi * radius**2 - segment)


def test_the_edge_of_a_box_leans_as_the_areas_on_both_its_sides_say():
    normals = top_of_a_box(Rounded(unit="scene", radius=RADIUS, rays=4096, denoise=False))
    middle = normals[32]
    for column in (0, 2, 5, 9, 12):
        away = (column + 0.5) / 64
        angle = np.arctan2(-middle[column, 0], middle[column, 2])
        assert angle == pytest.approx(leaning(away), abs=0.03)
        assert abs(middle[column, 1]) < 0.03
    np.testing.assert_allclose(normals[32, 32], [0, 0, 1], atol=1e-3)  # farther from every edge than the radius
    assert leaning(1e-9) == pytest.approx(np.pi / 4)
    corner = normals[0, 0]
    assert corner[0] < -0.45 and corner[1] > 0.45  # noqa: PT018  three sides meet


def test_inner_and_outer_edges_are_told_apart_and_the_far_side_of_a_wall_counts_nothing():
    outer = top_of_a_box(Rounded(unit="scene", radius=RADIUS, rays=256, edges="convex"))
    inner = top_of_a_box(Rounded(unit="scene", radius=RADIUS, rays=256, edges="concave"))
    assert outer[32, 0, 0] < -0.5
    np.testing.assert_allclose(inner[..., 2], 1, atol=1e-3)
    wall = replace(cube(1.0, (0, 0, 0)), uvs=())
    wall = replace(
        wall, positions=wall.positions * np.array([1, 1, 0.05], np.float32) - np.array([0, 0, 0.025], np.float32)
    )
    low = replace(plane(), positions=plane().positions + np.array([-0.5, -0.5, 0], np.float32))
    made = baked(
        low,
        wall,
        ["rounded"],
        size=32,
        outward=0.02,
        inward=0.02,
        rounded=Rounded(unit="scene", radius=RADIUS, rays=256),
    )
    np.testing.assert_allclose(values(made, "rounded")[16, 16], [0.5, 0.5, 1], atol=1e-3)


def test_a_ball_is_white_where_it_faces_the_way_and_black_where_it_faces_away():
    body = ball(1.0, (0, 0, 0))
    made = baked(
        body,
        replace(body, uvs=()),
        ["directional", "normal_object"],
        size=64,
        outward=0.05,
        inward=0.05,
        directional=Directional(way="+x"),
    )
    image, normals = values(made, "directional"), 2 * values(made, "normal_object") - 1
    there = made.cast.struck > 0
    np.testing.assert_allclose(image[there], 0.5 + 0.5 * normals[there][:, 0], atol=2e-3)
    sharp = baked(
        body,
        replace(body, uvs=()),
        ["directional"],
        size=64,
        outward=0.05,
        inward=0.05,
        directional=Directional(way="0 0 2", sharpness=4, middle=0.5),
    )
    expected = np.clip(0.5 + 0.5 * 4 * (normals[there][:, 2] - 0.5), 0, 1)
    np.testing.assert_allclose(values(sharp, "directional")[there], expected, atol=5e-3)
    assert (facts(sharp, "directional")["black"], facts(sharp, "directional")["white"]) == (0.25, 0.75)


def test_a_place_along_the_way_is_grey_by_where_it_lies_in_the_box():
    made = baked(
        plane(), replace(plane(), uvs=()), ["directional"], size=32, directional=Directional(by="place", way="-x")
    )
    np.testing.assert_allclose(values(made, "directional")[16], 1 - (np.arange(32) + 0.5) / 32, atol=1e-3)
    assert facts(made, "directional")["unit"] == "scene units"
    narrow = baked(
        plane(),
        replace(plane(), uvs=()),
        ["directional"],
        size=32,
        directional=Directional(by="place", way="+x", sharpness=2, middle=0.5),
    )
    expected = np.clip(((np.arange(32) + 0.5) / 32 - 0.5) / 0.5, 0, 1)
    np.testing.assert_allclose(values(narrow, "directional")[16], expected, atol=1e-3)


@given(st.tuples(*[st.floats(-1e6, 1e6)] * 3))
def test_any_three_numbers_but_zeros_are_a_way(numbers):
    words = " ".join(str(number) for number in numbers)
    if not any(abs(number) > 1e-100 for number in numbers):
        return
    way = way_in(words)
    np.testing.assert_allclose(np.linalg.norm(way), 1, atol=1e-9)
    np.testing.assert_allclose(np.cross(way, numbers), 0, atol=1e-9 * np.linalg.norm(numbers))


@pytest.mark.parametrize("words", ["up", "", "1 2", "0 0 0", "nan 0 1", "1 2 3 4", "+w"])
def test_what_is_no_way_is_refused(words):
    with pytest.raises(ValidationError, match="is no way"):
        Directional(way=words)
