"""What is said of a picture's range: it must be what a receiver reads."""

import numpy as np
import pytest

from inkwell_cast.core.bake.range_words import range_words
from inkwell_cast.core.images import png
from inkwell_cast.core.settings.output import Form


@pytest.mark.parametrize("depth", [8, 16])
def test_the_step_of_nothing_and_what_it_reads_are_those_of_the_picture(depth):
    black, white = -0.4, 0.4
    words = range_words({"black": black, "white": white, "unit": "scene units"}, Form(depth=depth))
    stored = png.quantise(np.full((1, 1, 1), 0.5, np.float32), depth)
    reads = black + float(png.dequantise(stored)[0, 0, 0]) * (white - black)
    assert f"0 is step {int(stored[0, 0, 0]):,} of {2**depth - 1:,}, which reads {reads:+.3g}" in words


def test_floats_have_no_range_and_what_lies_beyond_is_said():
    facts = {"black": 0.0, "white": 2.0, "unit": "light", "clipped_share": 0.0123}
    assert range_words(facts, Form()) == "black 0, white 2 light; 1.23% of the texels lie beyond"
    assert range_words(facts, Form(format="exr", depth=32)) == "its numbers are light"
    assert (
        range_words({"black": [0, 1, 2], "white": [3, 4, 5], "unit": "m"}, Form())
        == "black (0, 1, 2), white (3, 4, 5) m"
    )
    assert range_words({"mean": 0.5}, Form()) == ""
