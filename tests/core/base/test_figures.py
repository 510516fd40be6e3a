"""Numbers as people read them."""

import pytest

from inkwell_cast.core.base.figures import figure


@pytest.mark.parametrize(
    ("value", "read"),
    [(0.000123, "0.000123"), (12.345, "12.3"), (999.4, "999"), (4693.2, "4,693"), (-12_345_678.0, "-12,345,678")],
)
def test_a_length_has_three_figures_and_is_told_whole_above_a_thousand(value, read):
    assert figure(value) == read
    assert figure(value).isascii()  # a terminal of any code page shows it
