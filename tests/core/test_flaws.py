"""Each detector on a mesh that shows its cause and on one that does not."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.editing import mend_reach
from inkwell_cast.core.flaws import flaws_of, marks_in, write_marks
from inkwell_cast.core.mesh import Layer, layer_of_corners, merge
from inkwell_cast.core.normals import with_normals
from inkwell_cast.core.recipe import Reach

from ..shapes import cube, grid_mesh, plane
from .bakes import baked, moved, upside_down


def found(low, high, **more):
    return flaws_of([sheet.ground for sheet in baked(low, high, ["normal"], size=96, **more).sheets])


def told(low, high, **more):
    return [(shown.flaw.cause, shown.flaw.what) for shown in found(low, high, **more)]


def island(height, name="island"):
    """A square in the middle of the plane, at some height over it."""
    return grid_mesh(1, 1, lambda u, v: (0.3 + 0.4 * u, 0.3 + 0.4 * v, 0 * u + height), name)


def frame():
    """The plane without its middle."""
    cells = plane(10, name="high")
    middle = cells.positions[cells.triangles].mean(axis=1)
    inner = (np.abs(middle[:, :2] - 0.5) < 0.2).all(axis=1)
    return replace(cells, triangles=cells.triangles[~inner], uvs=())


def test_a_clean_bake_has_no_flaw():
    assert found(plane(), plane(4, 0.01)) == []


@pytest.mark.parametrize(
    ("height", "words"),
    [
        (0.2, "The outward reach is 0.05 here, and the sculpt stands 0.2 above the low."),
        (-0.2, "The inward reach is 0.05 here, and the sculpt lies 0.2 below the low."),
        (None, "There is no sculpt along these rays, up to 0.707 beyond the reach."),
    ],
)
def test_what_was_missed_is_told_with_where_the_sculpt_is(height, words):
    parts = [frame()] + ([] if height is None else [replace(island(height), uvs=())])
    (shown,) = found(plane(), merge(parts, "high"), outward=0.05, inward=0.05)
    assert (shown.flaw.cause, shown.flaw.what) == ("missed", words)
    assert shown.flaw.area == pytest.approx(0.16, rel=0.05)
    assert shown.flaw.middle == pytest.approx((0.5, 0.5, 0), abs=0.01)
    assert shown.flaw.radius == pytest.approx(0.2 * np.sqrt(2), rel=0.05)


@pytest.mark.parametrize("height", [0.2, -0.2])
@pytest.mark.parametrize("unit", ["scene", "percent"])
def test_the_pocket_that_a_missed_region_asks_for_cures_it(height, unit):
    high = merge([frame(), replace(island(height), uvs=())], "high")
    scale = 1 if unit == "scene" else 100 / np.sqrt(2)
    reach = Reach(unit=unit, outward=0.05 * scale, inward=0.05 * scale)
    result = baked(plane(), high, ["normal"], size=96, reach_of_all=reach)
    (shown,) = flaws_of([result.sheets[0].ground])
    mended = mend_reach(result.recipe, shown.flaw, result.low.mesh.diagonal)
    assert mended.pockets[0].name == "Missed, plane"
    again = baked(plane(), high, ["normal"], size=96, reach_of_all=reach, pockets=mended.pockets)
    assert again.cast.missed == 0
    assert flaws_of([again.sheets[0].ground]) == []


def test_a_sculpt_that_is_turned_over_is_told_to_be():
    ((cause, words),) = told(plane(), upside_down(plane(4, 0.01)))
    assert cause == "missed"
    assert "0.01 from the low, but its faces look inward" in words


def test_rays_that_begin_inside_another_body_are_found():
    slab = replace(moved(cube(name="slab"), (0.5, 0.5, 0.35), (0.4, 0.4, 0.5)), uvs=(), normals=None)
    high = merge([replace(plane(4), uvs=()), slab], "high")
    assert {cause for cause, _ in told(plane(), high, outward=0.3)} == {"inside"}
    assert told(plane(), high, outward=0.05) == []


def hard_cube(size):
    return with_normals(cube(size))


def test_detail_drawn_aside_by_leaning_rays_is_found_and_split_rays_draw_none():
    low, high = hard_cube(1.0), replace(hard_cube(1.1), uvs=())
    for directions, causes in (("averaged", {"leaning"}), ("split", set())):
        reach = Reach(unit="scene", outward=0.2, inward=0.2, directions=directions)
        result = baked(low, high, ["normal"], size=96, reach_of_all=reach)
        assert {shown.flaw.cause for shown in flaws_of([result.sheets[0].ground])} == causes


@pytest.mark.parametrize(("degrees", "causes"), [(70, {"strained"}), (30, set())])
def test_shading_that_leans_far_from_its_faces_is_found(degrees, causes):
    low = plane()
    leaning = np.array([np.sin(np.radians(degrees)), 0, np.cos(np.radians(degrees))], np.float32)
    low = replace(low, normals=Layer(np.tile(leaning, (4, 1)), low.triangles))
    reach = Reach(unit="scene", outward=0.3, inward=0.3)
    result = baked(low, plane(4), ["normal"], size=64, reach_of_all=reach)
    assert {shown.flaw.cause for shown in flaws_of([result.sheets[0].ground])} == causes


def test_a_region_across_a_seam_is_one_and_two_apart_are_two():
    half = plane(2)
    uv = half.uvs[0].at_corners()
    uv[..., 0] = np.where(uv[..., :1, 0].mean(axis=1, keepdims=True) < 0.5, uv[..., 0] * 0.9, uv[..., 0] * 0.9 + 0.1)
    low = replace(half, uvs=(layer_of_corners(uv),))
    assert len(found(low, frame())) == 1
    cells = plane(20, name="high")
    middle = cells.positions[cells.triangles].mean(axis=1)
    holes = [(np.abs(middle[:, :2] - at) < 0.1).all(axis=1) for at in ((0.25, 0.25), (0.75, 0.6))]
    pierced = replace(cells, triangles=cells.triangles[~(holes[0] | holes[1])], uvs=())
    assert len(found(plane(), pierced)) == 2


def test_marks_lie_on_the_texels_and_are_kept_in_their_order(tmp_path):
    shown = found(plane(), frame())
    corners = shown[0].corners
    assert np.abs(corners[..., :2] - 0.5).max() < 0.22
    np.testing.assert_allclose(corners[..., :2], shown[0].uvs, atol=1e-5)  # this low's UVs are its places
    facing = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    assert (facing[:, 2] > 0).all()  # outward, as the low does
    write_marks(tmp_path / "marks", shown)
    np.testing.assert_array_equal(marks_in(tmp_path / "marks", 0).corners, corners)
    with pytest.raises(IndexError):
        marks_in(tmp_path / "marks", 1)
