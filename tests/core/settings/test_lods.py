"""Levels of detail in names."""

import pytest

from inkwell_cast.core.settings.lods import lod_of, lod_of_object, lods_in


@pytest.mark.parametrize(
    ("name", "level", "rest"),
    [
        ("crate_LOD1_low", 1, "crate_low"),
        ("crate_low.lod02", 2, "crate_low"),
        ("LOD0", 0, ""),
        ("crate_low", None, "crate_low"),
        ("melody_low", None, "melody_low"),
        ("crate lod 3", 3, "crate"),
    ],
)
def test_a_name_says_its_level(name, level, rest):
    assert lod_of(name) == (level, rest)


def test_an_object_says_its_own_level_before_its_file_does():
    assert lod_of_object("crate_LOD1.glb", "lid_LOD2_low") == 2
    assert lod_of_object("crate_LOD1.glb", "lid_low") == 1
    assert lods_in([("a_lod3.obj", "x"), ("b.obj", "b_lod1"), ("c.obj", "c"), ("a_lod3.obj", "y")]) == [1, 3]
