"""Which setting makes what stale: the table knows every setting, and what it says of rays and layers is so."""

import numpy as np
import pytest

from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings.basis import Basis
from inkwell_cast.core.settings.map_names import MAPS
from inkwell_cast.core.settings.maps import Curvature, Ids, Occlusion, Thickness
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.regions import Crease, Omission, Pocket, Stroke
from inkwell_cast.core.settings.scope_settings import ScopeSettings
from inkwell_cast.core.settings.scopes import FIELDS
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.core.settings.staleness import (
    CAGE_VIEW,
    CHECKS,
    HANDOFF,
    LOW_VIEW,
    MESHES,
    RAYS,
    TABLE,
    gathered,
    stale_after,
)
from inkwell_cast.core.settings.staleness import MAPS as MAPS_STALE

from ...shapes import torus
from ..bakes import baked

BALL = {"centre": (2.7, 0, 0), "radius": 0.5}


def test_every_setting_stands_in_the_table_once_whole_or_field_by_field():
    for name, field in Recipe.model_fields.items():
        fields = {key.partition(".")[2] for key in TABLE if key.partition(".")[0] == name}
        if fields != {""}:
            assert fields == set(field.annotation.model_fields), name
    assert {key.partition(".")[0] for key in TABLE} == set(Recipe.model_fields)
    assert set(FIELDS) == set(ScopeSettings.model_fields)


@pytest.mark.parametrize(
    ("change", "stale"),
    [
        ({"basis": Basis(green="down")}, {MAPS_STALE}),
        ({"basis": Basis(tangents="file")}, {MAPS_STALE, LOW_VIEW, CAGE_VIEW}),
        ({"occlusion": Occlusion(denoise=True)}, {gathered("occlusion")}),
        ({"occlusion": Occlusion(rays=7)}, {gathered("occlusion"), gathered("floaters")}),
        ({"sheet": Sheet(padding=3)}, {MAPS_STALE}),
        ({"sheet": Sheet(samples=4)}, {RAYS}),
        ({"output": Output(maps=["height"])}, {MAPS_STALE, HANDOFF}),
    ],
)
def test_a_change_spoils_what_follows_it_and_nothing_else(change, stale):
    assert stale_after(Recipe(), Recipe().model_copy(update=change)) == stale


def test_a_displaced_low_is_drawn_anew_with_what_the_displacement_follows():
    plain, moved = Recipe(), Recipe(output=Output(maps=["displacement"]))
    assert {LOW_VIEW, CAGE_VIEW} <= stale_after(plain, moved)
    deeper = {"reach": Reach(outward=9.0)}
    assert LOW_VIEW not in stale_after(plain, plain.model_copy(update=deeper))
    assert LOW_VIEW in stale_after(moved, moved.model_copy(update=deeper))


@pytest.mark.parametrize(
    "change",
    [
        {"pockets": [Pocket(**BALL, outward=0.5, inward=0.5)]},
        {"nudges": [Stroke(kind="out", points=[BALL["centre"]], radius=0.5, amount=0.2)]},
        {"creases": [Crease(**BALL, directions="split")]},
        {"omissions": [Omission(part="high/high", **BALL)]},
        {"curvature": Curvature(radius=0.4, unit="scene")},
        {"occlusion": Occlusion(rays=5)},
        {"thickness": Thickness(rays=5)},
        {"ids": Ids(by="object")},
    ],
)
def test_a_warm_bake_after_a_change_is_that_of_a_cold_one(change):
    """What the table leaves out would be taken over from the bake before, and be wrong."""
    low, high = torus(16, 8, name="low"), torus(48, 24, small=0.72, name="high")
    maps = [key for key in MAPS if key != "displacement"]
    warm = Warm()
    first = baked(low, high, maps, size=48, warm=warm)
    again = baked(low, high, maps, size=48, warm=warm, **change)
    cold = baked(low, high, maps, size=48, **change)
    for key in maps:
        np.testing.assert_array_equal(again.images[key], cold.images[key], key)
    assert MESHES not in stale_after(first.recipe, again.recipe)
    assert CHECKS in stale_after(first.recipe, first.recipe.model_copy(update={"reach": Reach(outward=0.5)}))
