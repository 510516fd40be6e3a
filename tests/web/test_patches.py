"""Patches as the views draw them: their rims on the low, where they are dragged, and sizes that are none."""

import numpy as np
import pytest

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
    both = [{"centre": ON_RING, "radius": 0.4}, {"centre": (2.69, 0.2, 0), "radius": 0.4}]
    assert len(rims(client, piece, both, together=True)[0]) == 1
    assert rims(client, piece, []) == ([], {})


@pytest.mark.parametrize("size", ["wide", "0", "-2", ""])
def test_a_size_that_is_none_is_told_with_what_to_give(client, piece, size):
    answer = client.post(f"{piece}/rims", json={"patches": [{"centre": ON_RING, "radius": size}]})
    assert answer.status_code == 422
    assert f"“{size}” is none. Give a length above 0" in answer.json()["error"]
