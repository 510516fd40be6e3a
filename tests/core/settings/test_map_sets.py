"""Sets of maps."""

from inkwell_cast.core.settings.map_names import MAPS
from inkwell_cast.core.settings.map_sets import PURPOSES, READY, maps_of


def test_every_map_has_one_purpose_and_sets_hold_maps_that_there_are():
    assert sorted(key for keys in PURPOSES.values() for key in keys) == sorted(MAPS)
    assert all(set(keys) <= set(MAPS) for keys in READY.values())


def test_sets_and_keys_may_be_mixed_and_what_is_neither_is_left_to_be_refused():
    assert maps_of(["shaded"]) == ["normal", "occlusion"]
    assert maps_of(["height", "shaded", "normal", "hight"]) == ["normal", "occlusion", "height", "hight"]
