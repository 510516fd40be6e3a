import pytest
from pydantic import ValidationError

from inkwell_cast.core.settings import editing
from inkwell_cast.core.settings.files import FileSettings
from inkwell_cast.core.settings.pairing import ALL, Pairing, Part, Placing, pair_up, role_by_names
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.scopes import in_force, scopes


def parts(*names, file="all.glb"):
    return [Part(file, name) for name in names]


def names(paired):
    return {p.name: ([x.name for x in p.lows], [x.name for x in p.giving]) for p in paired.pairs}


def test_many_highs_meet_one_low_whatever_the_case():
    found = pair_up(parts("Lid_LOW", "lid_high", "lid_High_hinge", "lid_float_screw.001", "lid_cage"), Pairing())
    assert names(found) == {"Lid": (["Lid_LOW"], ["lid_high", "lid_High_hinge", "lid_float_screw.001"])}
    assert [p.name for p in found.pairs[0].cages] == ["lid_cage"]
    assert found.alone == []


def test_copy_numbers_of_exporters_are_passed_over():
    assert names(pair_up(parts("a_low.001", "a_high.002"), Pairing())) == {"a": (["a_low.001"], ["a_high.002"])}


def test_the_longest_stem_that_has_a_low_wins():
    found = pair_up(parts("pier_low", "pier_high_mast_high", "pier_high_mast_low"), Pairing())
    assert names(found)["pier_high_mast"] == (["pier_high_mast_low"], ["pier_high_mast_high"])
    assert [a.part.name for a in found.alone] == ["pier_low"]
    assert names(pair_up(parts("pier_low", "pier_high_mast_high"), Pairing())) == {
        "pier": (["pier_low"], ["pier_high_mast_high"])
    }


def test_what_stays_alone_is_listed_with_its_reason():
    found = pair_up(parts("a_low", "b_high", "c_cage", "lantern"), Pairing())
    assert found.pairs == []
    assert {a.part.name: a.reason for a in found.alone} == {
        "a_low": "no high is called a_high…",
        "b_high": "no low is called b_low",
        "c_cage": "no low is called c_low",
        "lantern": "neither its name nor its file's has one of _low, _high, _float, _cage",
    }


def test_a_part_without_a_suffix_goes_by_its_file():
    given = [Part("bell_low.obj", "Cube"), Part("bell_high.ply", "Sphere.003")]
    assert names(pair_up(given, Pairing())) == {"bell": (["Cube"], ["Sphere.003"])}


def test_roles_of_files_win_over_names_and_floaters_stay_floaters():
    given = [Part("x.obj", "Cube"), Part("y.obj", "Ball"), Part("y.obj", "Cube_float_a")]
    roles = {"x.obj": FileSettings(role="low"), "y.obj": FileSettings(role="high")}
    found = pair_up(given, Pairing(), roles)
    assert names(found) == {ALL: (["Cube"], ["Ball", "Cube_float_a"])}
    assert [role for role, _ in found.pairs[0].members] == ["low", "high", "float"]
    assert names(pair_up(given, Pairing(together=True), roles)) == {ALL: (["Cube"], ["Ball", "Cube_float_a"])}


def test_a_low_may_be_its_own_source():
    found = pair_up(parts("a_low"), Pairing(placed={"all.glb/a_low": Placing(role="self")}))
    assert names(found) == {"a": (["a_low"], ["a_low"])}
    assert found.pairs[0].members == [("self", Part("all.glb", "a_low"))]


def test_suffixes_can_be_changed():
    own = Pairing(low="-lp", high="-hp")
    assert names(pair_up(parts("a-LP", "a-hp2"), own)) == {"a": (["a-LP"], ["a-hp2"])}


def test_moving_renaming_and_splitting_by_hand():
    given = parts("a_low", "a_high", "a_high_knob", "b_low", "b_high")

    def after(recipe):
        return pair_up(given, recipe.pairing, recipe.files)

    moved = editing.place_part(Recipe(), "all.glb/a_high_knob", "b")
    assert names(after(moved))["b"][1] == ["a_high_knob", "b_high"]
    assert names(after(editing.unplace_part(moved, "all.glb/a_high_knob"))) == names(after(Recipe()))
    start = editing.set_scope(Recipe(), "pair:a", {"outward": 4.0})
    renamed = editing.rename_pair(start, after(start).pairs[0], "Lamp")
    assert names(after(renamed))["Lamp"] == (["a_low"], ["a_high", "a_high_knob"])
    assert renamed.levels["pair:lamp"].outward == 4
    paired = after(Recipe())
    split = editing.split_pair(Recipe(), paired, paired.pairs[0], ["all.glb/a_high_knob"])
    assert [a.part.name for a in after(split).alone] == ["a_high_knob"]
    assert names(after(split))["a"][1] == ["a_high"]


def test_the_most_specific_level_wins_and_says_where_it_is_from():
    recipe = Recipe(reach=Reach(outward=1, inward=2))
    recipe = editing.set_scope(recipe, "pair:a", {"outward": 3.0, "mode": "smooth"})
    recipe = editing.set_scope(recipe, "object:f/x_low", {"outward": 5.0})
    found = in_force(recipe, scopes("A", "f/x_low"))
    assert (found["outward"].value, found["outward"].scope) == (5, "object:f/x_low")
    assert (found["mode"].value, found["mode"].scope) == ("smooth", "pair:a")
    assert (found["inward"].value, found["inward"].scope) == (2, "piece")
    recipe = editing.set_scope(recipe, "object:f/x_low", {"outward": None})
    assert "object:f/x_low" not in recipe.levels
    with pytest.raises(ValueError, match="no such setting"):
        editing.set_scope(recipe, "pair:a", {"colour": 1})


def test_files_given_as_lows_and_highs_meet_whatever_their_names():
    given = [
        Part("a.obj", "lid_low"),
        Part("a.obj", "box_low"),
        Part("b.ply", "lid_high"),
        Part("b.ply", "everything else"),
    ]
    roles = {"a.obj": FileSettings(role="low"), "b.ply": FileSettings(role="high")}
    assert names(pair_up(given, Pairing(), roles)) == {
        "lid": (["lid_low"], ["lid_high"]),
        ALL: (["box_low"], ["everything else"]),
    }
    assert len(pair_up(given, Pairing()).alone) == 2


@pytest.mark.parametrize(
    ("low", "high"), [("a_low", "a_high"), ("a_lowpoly", "a_highpoly"), ("a_lp", "a_hp"), ("a_LP", "a_HP_2")]
)
def test_each_role_has_several_suffixes(low, high):
    assert names(pair_up(parts(low, high), Pairing())) == {"a": ([low], [high])}


def test_two_letters_within_a_word_are_no_suffix():
    assert pair_up(parts("rope_hpost", "rope_low"), Pairing()).pairs == []


def test_suffixes_are_edited_as_words_and_none_is_empty():
    own = Pairing(low="_game,_lp ", high="_sculpt")
    assert own.low == "_game, _lp"
    assert names(pair_up(parts("a_game", "a_sculpt", "a_low"), own)) == {"a": (["a_game"], ["a_sculpt"])}
    with pytest.raises(ValidationError, match="empty suffix"):
        Pairing(low="_low,,_lp")


def test_a_low_without_a_high_is_its_own_source_where_that_is_wished():
    parts = [Part("f", name) for name in ("lid_low", "bell_low", "bell_high")]
    assert [pair.name for pair in pair_up(parts, Pairing()).pairs] == ["bell"]
    lid, bell = pair_up(parts, Pairing(alone=True)).pairs
    assert (lid.name, lid.by_itself, bell.by_itself) == ("lid", True, False)
    assert lid.giving == lid.lows
    assert bell.giving == bell.highs


@pytest.mark.parametrize(
    ("low", "high", "cage"),
    [
        ("rock_low", "rock_high", "cage_rock"),
        ("rock_low", "rock_high", "rock-cage"),
        ("rock_low", "rock_high", "Cage"),
        ("rock_low", "rock_high", "low_cage"),
        ("lp_rock", "HP-rock", "Cage rock"),
        ("rockLow", "rockHigh", "rockCage"),
        ("rock_low_v2", "rock_high_v2", "rock_cage_v2"),
    ],
)
def test_a_role_is_read_wherever_its_word_stands_alone(low, high, cage):
    given = [Part(f"{name}.obj", "Cube") for name in (low, high, cage)]
    (pair,) = pair_up(given, Pairing()).pairs
    assert [[part.file for part in parts] for parts in (pair.lows, pair.highs, pair.cages)] == [
        [f"{low}.obj"],
        [f"{high}.obj"],
        [f"{cage}.obj"],
    ]


def test_files_that_say_nothing_but_their_role_are_one_piece():
    (pair,) = pair_up([Part(f"{name}.obj", name) for name in ("low", "high", "cage")], Pairing()).pairs
    assert [role for role, _ in pair.members] == ["low", "high", "cage"]


def test_words_within_words_and_names_of_things_are_no_roles():
    assert pair_up(parts("slow", "highway", "help"), Pairing()).pairs == []
    assert names(pair_up(parts("low_wall", "low_wall_high"), Pairing())) == {
        "low_wall": (["low_wall"], ["low_wall_high"])
    }
    inside = [Part("lp_shelf.obj", "high_board"), Part("hp_shelf.obj", "Cube")]
    assert names(pair_up(inside, Pairing())) == {"shelf": (["high_board"], ["Cube"])}
    assert names(pair_up(parts("cage_bird_low", "cage_bird_high"), Pairing())) == {
        "cage_bird": (["cage_bird_low"], ["cage_bird_high"])
    }


def test_a_cage_keeps_the_names_of_the_low_that_it_was_copied_from():
    """The file says that it is one; a thing that is called a cage has a low all the same."""
    given = [Part("ring_low.obj", "ring_low"), Part("ring_high.ply", "ring_high"), Part("cage_ring.obj", "ring_low")]
    (pair,) = pair_up(given, Pairing()).pairs
    assert [part.file for part in pair.lows + pair.cages] == ["ring_low.obj", "cage_ring.obj"]
    assert role_by_names("cage_ring", ["ring_low"], Pairing()) == "cage"
    bird = [Part("bird_cage.obj", "bird_cage_low"), Part("bird_cage_high.ply", "bird_cage_high")]
    (pair,) = pair_up(bird, Pairing()).pairs
    assert (len(pair.lows), pair.cages) == (1, [])
