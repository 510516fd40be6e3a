"""Patches as the views draw them: their rims on the low, where they are dragged, and sizes that are none."""

import re

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from .browser import open_ring, unfold
from .helpers import message

ON_RING = (2.7, 0.0, 0.0)  # of the torus, on its outermost circle


def rims(client, piece, patches, **more):
    header, arrays = message(client.post(f"{piece}/rims", json={"patches": patches, **more}))
    return header["patches"], arrays


def test_rims_lie_on_the_low_as_far_along_it_as_the_size_says(client, piece):
    told, arrays = rims(
        client, piece, [{"centre": ON_RING, "radius": 0.5, "rim": 0.5}, {"centre": (-2.7, 0, 0), "radius": "5 %"}]
    )
    assert len(told) == 2
    assert told[0]["middle"] == pytest.approx(ON_RING, abs=0.02)
    away = [np.linalg.norm(arrays[name].reshape(-1, 3) - ON_RING, axis=1).max() for name in ("rim0", "soft0")]
    assert 0.45 < away[0] <= 0.51  # the straight way is a little shorter
    assert 0.23 < away[1] <= 0.26
    assert len(arrays["rim1"]) > 100
    assert len(arrays["soft1"]) == 0


def test_a_rim_is_dragged_to_a_place_and_several_are_drawn_as_one(client, piece):
    (told,), _ = rims(client, piece, [{"centre": ON_RING, "radius": 0.5}], to=(2.7 * np.cos(0.4), 2.7 * np.sin(0.4), 0))
    assert told["radius"] == pytest.approx(2.7 * 0.4, rel=0.03)
    straight = 2 * 2.7 * np.sin(0.2)
    to = (2.7 * np.cos(0.4), 2.7 * np.sin(0.4), 0)
    header, _ = message(client.post(f"{piece}/rims", json={"patches": [{"centre": ON_RING, "radius": 1}], "to": to}))
    said = re.fullmatch(r"(.*) units straight, .* % of the low; (.*) units along the surface", header["words"])
    assert float(said[1]) == pytest.approx(straight, rel=0.01)
    assert float(said[2]) == pytest.approx(told["radius"], rel=0.01)
    both = [{"centre": ON_RING, "radius": 0.4}, {"centre": (2.69, 0.2, 0), "radius": 0.4}]
    assert len(rims(client, piece, both, together=True)[0]) == 1
    assert rims(client, piece, []) == ([], {})


@pytest.mark.parametrize("size", ["wide", "0", "-2", ""])
def test_a_size_that_is_none_is_told_with_what_to_give(client, piece, size):
    answer = client.post(f"{piece}/rims", json={"patches": [{"centre": ON_RING, "radius": size}]})
    assert answer.status_code == 422
    assert f"“{size}” is none. Give a length above 0" in answer.json()["error"]


@pytest.mark.parametrize(
    ("typed", "of", "value"),
    [("2 + 1/4", "number", 2.25), ("50 mm", "length", 5 / 7.548 * 100), ("3 %", "length", 3.0)],
)
def test_what_is_typed_in_a_field_that_no_form_sends_is_read(client, piece, typed, of, value):
    read = client.get(f"{piece}/typed", params={"text": typed, "of": of}).json()
    assert read["value"] == pytest.approx(value, rel=0.05)


def test_what_is_no_number_is_said_beside_the_field_of_the_brush_and_the_last_one_stays(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    unfold(page, "cage-by-hand")
    field = page.locator("#brush input[name=size]")
    before = field.input_value()
    field.fill("wide")
    field.press("Tab")
    expect(page.locator("#brush .problem")).to_have_text("“wide” is no number. The last good value stays.")
    expect(field).to_have_value(before)
    field.fill("1.5 + 1")
    field.press("Tab")
    expect(field).to_have_value("2.5")
    expect(page.locator("#brush .problem")).to_be_hidden()
