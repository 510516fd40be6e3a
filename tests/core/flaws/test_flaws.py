"""Each detector on a mesh that shows its cause and on one that does not."""

import re
from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.flaws import REGISTRY
from inkwell_cast.core.flaws.flaw import Flaw, Spot
from inkwell_cast.core.flaws.hatched import flaw_at, marks_in, write_marks
from inkwell_cast.core.flaws.texel_rows import seen_of
from inkwell_cast.core.mesh.marks import Marks
from inkwell_cast.core.mesh.mesh import CornerValues, corner_positions, merge, values_at_corners
from inkwell_cast.core.mesh.normals import with_normals
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.rays.along_surface import Ground
from inkwell_cast.core.review.worn_pictures import Pictures
from inkwell_cast.core.settings.maps import Occlusion
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import around_cube, cube, grid_mesh, hard_cube, plane, ribbed, rounded_box
from ..bakes import baked, moved, upside_down


def found(low, high, **more):
    return baked(low, high, ["normal"], size=96, **more).flaws().shown


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
    assert (shown.flaw.cause, shown.flaw.what) == ("missed" if height is None else "outside", words)
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
    (shown,) = result.flaws().shown
    mend = shown.flaw.mends[0]
    assert mend.name == "Sculpt outside the cage, plane"
    again = baked(plane(), high, ["normal"], size=96, reach_of_all=reach, mends=[mend])
    assert again.cast.missed == 0
    assert again.flaws().shown == []


def test_a_low_that_is_turned_over_beside_one_that_is_not_is_told_to_be():
    """Both lie over one part of the sculpt, so it must be the low."""
    low, high = plane(2, name="right"), plane(2, 0.01, 2.2, name="floor")
    left = replace(plane(2, name="left"), positions=plane(2).positions + np.array([1.1, 0, 0], np.float32))
    turned = replace(
        left,
        triangles=left.triangles[:, ::-1].copy(),
        uvs=(replace(left.uvs[0], corners=left.uvs[0].corners[:, ::-1].copy()),),
    )
    lows = [
        replace(m, uvs=(replace(m.uvs[0], values=m.uvs[0].values * 0.45 + at),))
        for m, at in ((low, 0.02), (turned, 0.52))
    ]
    (shown,) = found(merge(lows, "low"), replace(high, uvs=()), outward=0.05, inward=0.05)
    assert "but the low looks inward" in shown.flaw.what
    first, second = shown.flaw.mends
    assert (first.words, list(first.fixes)) == ("Turn the faces of the low over", ["low"])
    assert second.words == "Turn the faces of the sculpt over"


def test_a_sculpt_that_is_turned_over_is_told_to_be():
    ((cause, words),) = told(plane(), upside_down(plane(4, 0.01)))
    assert cause == "back"
    assert "0.01 from the low, but its faces look inward" in words


def test_rays_that_begin_inside_another_body_are_found_where_they_strike_what_is_wrong():
    slab = replace(moved(cube(name="slab"), (0.5, 0.5, 0.35), (0.4, 0.4, 0.5)), uvs=(), normals=None)
    between = moved(ribbed("between", 0.07, across=1), (0.3, 0.3, 0), (0.4, 0.4, 1))
    high = merge([ribbed("high"), slab, between], "high")
    assert {cause for cause, _ in told(plane(), high, outward=0.3)} == {"inside", "lacking"}  # a body without a low
    for sculpt, reach in ((high, 0.05), (merge([ribbed("high"), slab], "high"), 0.3)):  # they go on to the right place
        assert {cause for cause, _ in told(plane(), sculpt, outward=reach)} <= {"lacking"}


def test_detail_drawn_aside_by_leaning_rays_is_found_and_split_rays_draw_none_but_part_at_seams():
    for directions, causes in (("averaged", {"leaning"}), ("split", set())):
        reach = Reach(unit="scene", outward=0.2, inward=0.2, directions=directions)
        result = baked(hard_cube(1.0), around_cube(0.03), ["normal"], size=96, reach_of_all=reach)
        assert {shown.flaw.cause for shown in result.flaws().shown} == causes


def test_a_flaw_on_all_sides_says_where_it_shows_most_on_each():
    """Six faces lean alike: that is several places, none of which goes around the cube, and each has a mend of its own."""
    reach = Reach(unit="scene", outward=0.2, inward=0.2)
    told = baked(hard_cube(1.0), around_cube(0.03), ["normal"], size=96, reach_of_all=reach).flaws().flaws
    sides = set()
    for flaw in told:
        spots = np.array(flaw.spots)
        away = np.linalg.norm(spots[:, None] - spots[None], axis=2)[np.triu_indices(len(spots), 1)]
        assert away.min(initial=1) > 0.09 * 3**0.5
        np.testing.assert_allclose(np.abs(spots).max(axis=1), 0.5, atol=1e-3)  # on the cube
        on = {(int(np.abs(spot).argmax()), bool(spot[np.abs(spot).argmax()] > 0)) for spot in spots}
        assert len(on) <= 3
        sides |= on
        assert flaw.spot == flaw.spots[0]
        assert flaw.mends[0].words in ("Straighten the rays here", "Straighten here, 33% of the part")
        assert flaw.mends[0].of_a_place
        assert not flaw.mends[1].of_a_place
    assert len(sides) == 6
    assert len(told) >= 4
    assert {flaw.kind for flaw in told} == {("leaning", "Leaning detail")}
    flaw = told[0]
    assert Flaw.model_validate(flaw.model_dump(exclude={"spots"}) | {"spot": (1, 2, 3)}).spots == [
        (1, 2, 3)
    ]  # of before


def test_skew_is_found_on_soft_shading_too():
    low = with_normals(replace(cube(1.0), normals=None))
    reach = Reach(unit="scene", outward=0.2, inward=0.2)
    shown = baked(low, around_cube(0.03), ["normal"], size=96, reach_of_all=reach).flaws().shown
    assert "leaning" in {each.flaw.cause for each in shown}


def test_a_round_edge_that_bends_over_to_the_next_face_is_no_leaning_detail():
    reach = Reach(unit="scene", outward=0.1, inward=0.15)
    assert baked(hard_cube(1.0), rounded_box(), ["normal"], size=96, reach_of_all=reach).flaws().shown == []


@pytest.mark.parametrize(("degrees", "causes"), [(70, {"strained"}), (30, set())])
def test_shading_that_leans_far_from_its_faces_is_found_where_it_looks_wrong(degrees, causes):
    low = plane()
    leaning = np.array([np.sin(np.radians(degrees)), 0, np.cos(np.radians(degrees))], np.float32)
    low = replace(low, normals=CornerValues(np.tile(leaning, (4, 1)), low.triangles))
    reach = Reach(unit="scene", outward=0.3, inward=0.3)
    result = baked(low, plane(4), ["normal"], size=64, reach_of_all=reach)
    assert result.flaws().shown == []  # rounding is nothing that a viewer sees
    other = Pictures([np.broadcast_to(np.array([0.7, 0.5, 0.7], np.float32), (64, 64, 3)).copy()])
    assert {shown.flaw.cause for shown in result.flaws(result.judgement(other)).shown} == causes


def test_a_region_across_a_seam_is_one_and_two_apart_are_two():
    half = plane(2)
    uv = half.uvs[0].at_corners()
    uv[..., 0] = np.where(uv[..., :1, 0].mean(axis=1, keepdims=True) < 0.5, uv[..., 0] * 0.9, uv[..., 0] * 0.9 + 0.1)
    low = replace(half, uvs=(values_at_corners(uv),))
    assert len(found(low, frame())) == 1
    cells = plane(20, name="high")
    middle = cells.positions[cells.triangles].mean(axis=1)
    holes = [(np.abs(middle[:, :2] - at) < 0.1).all(axis=1) for at in ((0.25, 0.25), (0.75, 0.6))]
    pierced = replace(cells, triangles=cells.triangles[~(holes[0] | holes[1])], uvs=())
    (both,) = found(plane(), pierced)  # one cause, one part, one cure
    assert len(both.flaw.mends[0].heals) >= 2
    lifted = [
        moved(replace(plane(1, name=str(n)), uvs=()), (u - 0.1, v - 0.1, 0.5), (0.2, 0.2, 1))
        for n, (u, v) in enumerate(((0.25, 0.25), (0.75, 0.6)))
    ]
    assert len(found(plane(), merge([pierced, *lifted], "high"))) == 2  # each with a pocket of its own


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


def test_a_place_lies_in_the_flaw_that_is_hatched_there_and_in_none_of_the_ball_around_it(tmp_path):
    turns = np.linspace(0, 2 * np.pi, 60, endpoint=False)
    around = np.stack([np.cos(turns), np.sin(turns), 0 * turns], axis=1)
    small = 0.05 * np.array([[1, 0, 0], [0, 1, 0], [-1, -1, 0]], np.float64)
    ring, dot = ((n * around[:, None] + small).astype(np.float32) for n in (1.0, 0.0))
    told = Flaw(
        cause="missed", title="Missed", part="a", what="", remedy="", middle=(0, 0, 0), radius=1, area=0, error=9
    )
    flaws = [told, told.model_copy(update={"radius": 0.2})]
    write_marks(tmp_path / "marks", [Marks(ring, on_low=True), Marks(dot, on_low=True)])
    at = [flaw_at(flaws, tmp_path / "marks", (x, 0.0, 0.0), 2.0) for x in (1.0, 0.95, 0.5, 0.0, 3.0)]
    assert at == [0, 0, None, 1, None]


def test_sculpt_beyond_the_start_of_rays_is_missed_above_solid_ground_too():
    """A ribbed plate floats over a ribbed floor, beyond the reach: rays strike the floor below it."""
    plate = moved(ribbed("plate", 0.03), (0.3, 0.3, 0), (0.4, 0.4, 1))
    high = merge([ribbed("floor", 0.002, across=1), plate], "high")
    (shown,) = found(plane(), high, outward=0.01, inward=0.01)
    assert shown.flaw.cause == "outside"
    assert "stands 0.03 above the low" in shown.flaw.what
    made = baked(plane(), high, ["normal"], size=96, outward=0.01, inward=0.01, mends=shown.flaw.mends[:1])
    assert made.flaws().shown == []


def test_a_break_at_a_seam_is_explained_and_cured_by_averaged_rays():
    """The two sides show the corner of a larger cube each from its own side: nothing that a viewer sees as wrong."""
    low, high = hard_cube(1.0), replace(hard_cube(1.1), uvs=())
    split = Reach(unit="scene", outward=0.2, inward=0.2, directions="split")

    def detected(mends=()):
        result = baked(low, high, ["normal"], size=96, reach_of_all=split, mends=list(mends))
        assert "seam" not in {shown.flaw.cause for shown in result.flaws().shown}
        return REGISTRY["seam"].find(seen_of(result.sheets[0].context, result.judgement().visible[0]))

    found = detected()
    told = found.tell(np.arange(len(found.rows)))
    assert "places 0.0707 apart, where the sculpt has turned by 90°" in told.what
    corners = corner_positions(low).reshape(-1, 3).astype(float)
    rows = np.repeat(np.arange(len(low.triangles)), 3)
    spot = Spot("Seam break", "cube/cube", (0.0, 0.0, 0.0), 1.0, corners, rows, lambda: Ground(low))
    for mend in told.mends(spot):
        assert len(detected([mend]).rows) == 0, mend.words


@pytest.mark.parametrize(("sides", "lean", "causes"), [(8, 0, {"wavy"}), (8, 0.4, {"wavy"}), (48, 0, set())])
def test_a_round_form_of_few_faces_shows_its_corners(sides, lean, causes):
    """Also where grooves around it lean its normals to and fro along its axis."""

    def tube(around, name, lean=0.0, down=1):
        def point(u, v):
            a = np.where(u == 1, 0, u) * 2 * np.pi
            return np.cos(a), np.sin(a), v

        def normal(u, v):
            a, b = 2 * np.pi * u, lean * np.sin(20 * np.pi * v)
            return np.cos(b) * np.cos(a), np.cos(b) * np.sin(a), np.sin(b)

        return grid_mesh(around, down, point, name, normal)

    shown = found(tube(sides, "low"), replace(tube(200, "high", lean, 120), uvs=()))
    assert {s.flaw.cause for s in shown} == causes
    if shown:
        (degrees,) = re.findall(r"meet at about (\d+)°", shown[0].flaw.what)
        assert float(degrees) == pytest.approx(360 / sides, abs=4)  # texels end short of the edges
        assert shown[0].flaw.mends == []


def test_shade_of_another_pair_is_found_where_the_recipe_lets_it_in():
    floor, wall = plane(2, name="floor_low"), plane(2, name="wall_low")
    at = wall.positions
    wall = replace(wall, positions=np.stack([0 * at[:, 0], at[:, 0], at[:, 1] + 0.02], axis=1))  # looks along x
    highs = [
        replace(mesh, name=f"{name}_high", object_names=(f"{name}_high",), uvs=())
        for mesh, name in ((floor, "floor"), (wall, "wall"))
    ]

    def causes(occluders, mends=()):
        recipe = Recipe(
            reach=Reach(unit="scene", outward=0.01, inward=0.01),
            sheet=Sheet(width=64, height=64, samples=1, split="one"),
            output=Output(maps=["occlusion"]),
            occlusion=Occlusion(rays=4, occluders=occluders),
            mends=list(mends),
        )
        result = bake(recipe, BakeMeshes([], [], [merge([floor, wall], "low"), *highs]))
        return [s.flaw for s in result.flaws().shown if s.flaw.cause == "neighbour"]

    shown = causes("piece")
    assert shown
    assert "Parts of other pairs hide" in shown[0].what
    assert causes("pair") == causes("piece", shown[0].mends) == []


def test_a_low_that_strikes_its_sculpt_elsewhere_is_not_told_to_look_inward():
    """A quarter of the low meets only the back of a wall that belongs to the same part of the sculpt."""
    floor = plane(20, 0.01, name="high")
    away = (floor.positions[floor.triangles].mean(axis=1)[:, :2] < 0.5).all(axis=1)
    triangles = np.where(away[:, None], floor.triangles[:, ::-1], floor.triangles).astype(np.int32)
    sculpt = with_normals(replace(floor, triangles=triangles, uvs=(), normals=None))
    flaws = [shown.flaw for shown in found(plane(4), sculpt, outward=0.05, inward=0.05)]
    assert flaws
    assert not any("looks inward" in flaw.what for flaw in flaws)
    assert not any("Turn the faces of the low" in mend.words for flaw in flaws for mend in flaw.mends)
    assert any("only the back of a wall" in flaw.what for flaw in flaws)
