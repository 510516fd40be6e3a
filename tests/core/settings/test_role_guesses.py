import pytest

from inkwell_cast.core.settings.role_guesses import MeshFacts, guess_roles, overlap

HERE = ((0.0, 0.0, 0.0), (2.0, 3.0, 1.0))
AROUND = ((-0.1, -0.1, -0.1), (2.1, 3.1, 1.1))
ELSEWHERE = ((9.0, 0.0, 0.0), (11.0, 3.0, 1.0))


def roles(**files):
    return {name: guess.role for name, guess in guess_roles(files).items()}


def test_uvs_size_and_place_say_which_of_two_files_receives():
    assert roles(a=MeshFacts(900_000, False, AROUND), b=MeshFacts(2_000, True, HERE)) == {"a": "high", "b": "low"}


def test_a_sculpt_with_uvs_of_its_own_is_still_the_high():
    assert roles(a=MeshFacts(900_000, True, AROUND), b=MeshFacts(2_000, True, HERE)) == {"a": "high", "b": "low"}


def test_what_lies_elsewhere_is_judged_alone():
    """Two lows side by side, one far smaller than the other, are no low and sculpt."""
    assert roles(a=MeshFacts(9_000, True, ELSEWHERE), b=MeshFacts(200, True, HERE)) == {"a": "low", "b": "low"}


def test_a_mesh_of_the_low_s_triangles_around_it_is_its_cage():
    found = roles(
        low=MeshFacts(2_000, True, HERE), shell=MeshFacts(2_000, False, AROUND), rock=MeshFacts(90_000, False, HERE)
    )
    assert found == {"low": "low", "shell": "cage", "rock": "high"}


@pytest.mark.parametrize(
    ("triangles", "uvs", "role"), [(500, True, "low"), (500, False, "high"), (900_000, True, "high")]
)
def test_a_file_alone_is_judged_by_its_size_and_uvs(triangles, uvs, role):
    assert roles(lantern=MeshFacts(triangles, uvs, HERE)) == {"lantern": role}


def test_names_are_never_overruled_and_guide_the_rest():
    named = MeshFacts(50_000, True, HERE, role="low")
    assert roles(lamp_low=named, scan=MeshFacts(60_000, False, AROUND)) == {"scan": "high"}
    assert roles(lamp_low=named) == {}


@pytest.mark.parametrize("shift", [0.0, 1.5, 1.9, 2.1])
def test_boxes_overlap_by_what_they_have_in_common(shift):
    moved = tuple(tuple(c + (shift if k == 0 else 0) for k, c in enumerate(corner)) for corner in HERE)
    assert overlap(HERE, moved) == (1 - shift / 2 >= 0.3)


def test_a_flat_low_overlaps_the_relief_on_it():
    flat = ((0.0, 0.0, 0.0), (2.0, 2.0, 0.0))
    assert roles(plate=MeshFacts(2, True, flat), relief=MeshFacts(80_000, False, flat)) == {
        "plate": "low",
        "relief": "high",
    }


def test_a_fat_twin_on_the_same_uvs_is_a_cage_and_no_second_low_without_a_question():
    """Whichever of both is named first."""
    for fat, low in (("a", "b"), ("b", "a")):
        found = guess_roles({fat: MeshFacts(2_000, True, AROUND), low: MeshFacts(2_000, True, HERE)})
        assert found[low].role == "low"
        assert found[fat].role == "cage"
        assert "if it is a low of its own" in found[fat].why
