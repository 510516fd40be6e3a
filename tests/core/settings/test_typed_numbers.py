import pytest

from inkwell_cast.core.settings.typed_numbers import length, number


@pytest.mark.parametrize(
    ("text", "value"),
    [("2", 2), (" 2.5 ", 2.5), ("2,5", 2.5), ("2 + 1/4", 2.25), ("-(3 - 1) * 2", -4), ("1e-3", 0.001), ("+4", 4)],
)
def test_numbers_and_sums(text, value):
    assert number(text) == pytest.approx(value)


@pytest.mark.parametrize("text", ["", "two", "1/0", "2**9", "__import__('os')", "1;2", "a+1", "[1]", "9" * 80, "1 2"])
def test_nothing_else_is_taken_and_nothing_is_run(text):
    with pytest.raises(ValueError, match=r"no number|only|too long"):
        number(text)


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("2", "scene", 2),
        ("2 mm", "scene", 0.2),
        ("0.5cm", "scene", 0.5),
        ("1 in", "scene", 2.54),
        ("3 units", "scene", 3),
        ("1.5%", "scene", 3),
        ("1.5 %", "percent", 1.5),
        ("4 u", "percent", 2),
        ("1/2 cm", "percent", 0.25),
        ("0.01 m", "percent", 0.5),
    ],
)
def test_lengths_name_their_unit_and_become_that_of_the_piece(text, unit, value):
    """A low with a diagonal of 200 scene units, each a centimetre."""
    assert length(text, unit, 200.0, "cm") == pytest.approx(value)


def test_per_cent_of_nothing_is_refused():
    with pytest.raises(ValueError, match="need a low"):
        length("2 mm", "percent", 0.0, "cm")
