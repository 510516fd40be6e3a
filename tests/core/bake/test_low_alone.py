"""A low on its own: every map that tells something without a sculpt, as if it were its own sculpt."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast import Piece
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.formats import write_mesh
from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.editing import on_their_own
from inkwell_cast.core.settings.map_names import OF_LOWS_ALONE
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import plane, torus


def test_a_torus_of_its_own_is_struck_everywhere_and_bends_as_a_torus():
    recipe = on_their_own(Recipe(sheet=Sheet(width=96, height=96)))
    made = bake(recipe, BakeMeshes([torus(96, 48)], []))
    assert list(made.images) == list(OF_LOWS_ALONE)
    (sheet,) = made.sheets
    assert sheet.missed == 0
    apart = np.linalg.norm(made.cast.normal - sheet.low.normals.mean(), axis=-1)
    assert np.isfinite(apart).all()
    inner, outer = made.images["curvature"][48, :, 0], made.images["curvature"][0, :, 0]
    assert outer.mean() > inner.mean()  # v = 0 lies outside, where it bends most outward
    dark = made.images["occlusion"][..., 0]
    assert dark[48].mean() < dark[0].mean() - 10  # the inner side sees itself


def test_a_low_meets_itself_and_not_what_lies_over_it_within_the_reach():
    under, over = plane(), replace(plane(height=0.05), name="over")
    both = merge(
        [under, replace(over, uvs=(replace(over.uvs[0], values=over.uvs[0].values * np.float32(0.4)),))], "low"
    )
    both = replace(
        both,
        uvs=(
            replace(
                both.uvs[0],
                values=np.concatenate(
                    [under.uvs[0].values * np.float32(0.4) + np.float32(0.5), over.uvs[0].values * np.float32(0.4)]
                ),
            ),
        ),
    )
    recipe = on_their_own(Recipe(sheet=Sheet(width=64, height=64)))
    recipe.output.maps = ["position", "occlusion"]
    made = bake(recipe, BakeMeshes([both], []))
    place = made.images["position"][..., 2].astype(float)
    lower, upper = place[10, 54], place[54, 10]
    assert (lower, upper) == (0, place.max())
    assert made.images["occlusion"][10, 54, 0] < 100 < made.images["occlusion"][54, 10, 0]


@pytest.mark.parametrize("high", [True, False])
def test_a_piece_of_a_low_alone_needs_no_high_and_one_with_a_high_is_as_ever(tmp_path, high):
    write_mesh(tmp_path / "ring_low.obj", torus(16, 8, name="ring_low"))
    write_mesh(tmp_path / "ring_high.ply", torus(64, 32))
    piece = Piece.of(tmp_path / "ring_low.obj", tmp_path / "ring_high.ply" if high else ())
    assert piece.recipe.pairing.alone != high
    assert (piece.recipe.output.maps == list(OF_LOWS_ALONE)) != high
