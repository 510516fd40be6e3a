"""Receivers: laid over settings, portable, versioned, with a published schema."""

import json
import pathlib

import pytest

from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.settings.basis import Basis
from inkwell_cast.core.settings.handoff import Handoff, Pack, Well
from inkwell_cast.core.settings.maps import Subdivision
from inkwell_cast.core.settings.output import Form, Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.receivers import READY, Receiver, find_receiver, read_receiver, schema
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet, Size

SCHEMA = pathlib.Path(__file__).parents[3] / "docs" / "schemas" / "receiver.json"
OWN = Recipe(
    reach=Reach(outward=3),
    basis=Basis(green="down", dither=True),
    output=Output(maps=["height", "normal"], depth=16, own={"height": Form(format="exr", depth=32)}),
    sheet=Sheet(width=1024, height=512, padding=7, samples=4),
    handoff=Handoff(pattern="{map}", packs=[Pack(name="p", red=Well(map="height"))]),
)


def test_a_receiver_changes_what_maps_are_for_and_nothing_else():
    made = Receiver.of(OWN, "Mine")
    other = Recipe(reach=Reach(outward=9), sizes={"a": Size(width=64, height=64)}, sheet=Sheet(samples=64))
    got = made.laid_over(other)
    assert (got.basis, got.output, got.handoff) == (OWN.basis, OWN.output, OWN.handoff)
    assert (got.sheet.width, got.sheet.height, got.sheet.padding, got.sheet.samples) == (1024, 512, 7, 64)
    assert (got.reach.outward, got.sizes) == (9, {})
    assert made.fits(got)
    assert not made.fits(other)
    sizeless = Receiver.of(OWN, "Mine", sizes=False).laid_over(other)
    assert (sizeless.sheet.width, sizeless.sizes) == (2048, other.sizes)


def test_a_receiver_goes_out_and_comes_back():
    for own in (*READY, Receiver.of(OWN, "Mine", "for me")):
        assert read_receiver(own.portable(), "a.json") == own
        assert own.does or own.name == "Mine"
    assert find_receiver("gREEN dOWN") == READY[2]


def test_ready_ones_pack_only_what_they_bake():
    for own in READY:
        assert own.handoff.packed_maps() <= set(own.output.maps), own.name


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"version": 2}, "receiver of version 2; this program knows 1"),
        ({"version": None}, "version None"),
        ({"kind": "other"}, "no receiver"),
        ({"output": {"format": "jpeg", "depth": 16}}, "output cannot be used"),
        ({"basis": {"green": "left"}}, "basis.green cannot be used"),
        ({"colour": 3}, "colour cannot be used"),
    ],
)
def test_what_cannot_be_read_is_said_by_file_and_field(change, words):
    with pytest.raises(InputProblem, match=rf"mine\.json: .*{words}"):
        read_receiver(json.dumps(json.loads(READY[0].portable()) | change), "mine.json")


@pytest.mark.parametrize("text", ["", "[", "[]", "nothing", "{" * 100_000])
def test_what_is_no_json_is_said(text):
    with pytest.raises(InputProblem, match=r"mine\.json"):
        read_receiver(text, "mine.json")


def test_an_unknown_name_lists_those_there_are():
    with pytest.raises(InputProblem, match="“Green down”"):
        find_receiver("nowhere.json")


def test_the_published_schema_is_the_one_in_force():
    assert json.loads(SCHEMA.read_text()) == schema()


def test_a_receiver_is_found_by_its_whole_name_or_what_stands_before_the_comma():
    assert find_receiver("GREEN DOWN").name == "Green down"
    assert find_receiver("green up") is READY[0]
    assert find_receiver("Green up, bitangent per vertex") is READY[1]
    with pytest.raises(InputProblem, match="no receiver of this name"):
        find_receiver("green")


def test_what_is_displaced_is_subdivided_unless_the_piece_says_how():
    film = find_receiver("Film displacement in float")
    assert film.laid_over(Recipe()).subdivision.scheme == "loop"
    own = Recipe(subdivision=Subdivision(scheme="catmull-clark", levels=2))
    assert film.laid_over(own).subdivision == own.subdivision
    assert find_receiver("Green down").laid_over(Recipe()).subdivision.scheme == "none"
