"""PNG keeps every step, and rounding is right."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.images import png, write_picture


@pytest.mark.parametrize("depth", [8, 16])
def test_png_keeps_every_step(depth, tmp_path):
    steps = np.random.default_rng(depth).integers(0, 2**depth, (33, 20, 3))
    steps = steps.astype(np.uint8 if depth == 8 else np.uint16)
    png.write(tmp_path / "x.png", steps)
    found = png.read(tmp_path / "x.png")
    assert found.dtype == steps.dtype
    np.testing.assert_array_equal(found, steps)


@settings(max_examples=60, deadline=None)
@given(st.lists(st.floats(-0.5, 1.5, width=32), min_size=3, max_size=30), st.sampled_from([8, 16]))
def test_quantising_is_right_to_half_a_step_and_stable(values, depth):
    image = np.array(values[: len(values) // 3 * 3], np.float32).reshape(1, -1, 3)
    steps = png.quantise(image, depth)
    back = png.dequantise(steps)
    assert np.abs(back - np.clip(image, 0, 1)).max() <= 0.5001 / (2**depth - 1)
    np.testing.assert_array_equal(png.quantise(back, depth), steps)


def test_png_problems_are_told(tmp_path):
    with pytest.raises(InputProblem, match="cannot be read"):
        png.read(tmp_path / "nothing.png")
    (tmp_path / "noise.png").write_bytes(b"noise")
    with pytest.raises(InputProblem, match="not a PNG"):
        png.read(tmp_path / "noise.png")
    with pytest.raises(InputProblem, match="could not be written"):
        write_picture(tmp_path / "no" / "folder.png", "png", np.zeros((16, 16, 3), np.uint8))
