import pathlib

import pytest

from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.trade_words import TRADE_WORDS, meant_by

GUIDE = pathlib.Path(__file__).parents[3] / "inkwell_cast" / "web" / "guide"


@pytest.mark.parametrize(
    ("asked", "here"),
    [
        ("OpenGL or DirectX normals", "Basis, green up"),
        ("dilation", "Padding"),
        ("edge padding", "Padding"),
        ("anti-aliasing", "Samples of a texel"),
        ("smoothing groups", "Normals of the low"),
        ("longest ray distance", "Reach, outward"),
        ("backface", "Struck from inside"),
        ("Y-", "Basis, green down"),
        ("AO", "Occlusion"),
    ],
)
def test_what_the_trade_calls_otherwise_is_found(asked, here):
    assert meant_by(asked)[0].here == here


def test_words_of_no_trade_mean_nothing():
    assert meant_by("") == meant_by("zebra") == meant_by("of the") == []


def test_every_row_names_settings_and_pages_that_there_are_and_stands_in_the_guide():
    table = (GUIDE / "what-it-is-called.md").read_text(encoding="utf-8")
    for one in TRADE_WORDS:
        assert (GUIDE / f"{one.page}.md").is_file()
        for name in one.settings:
            group, _, field = name.partition(".")
            assert hasattr(getattr(Recipe(), group), field)
        assert f"| {', '.join(one.words)} | [{one.here}]({one.page}.md) |" in table
