"""Straightening, on a box with averaged normals and discs on its sides, whose drawn outlines are known in closed form.

The directions of a box's corners are (±1, ±1, ±1) / √3, so on a side of half width a rays go on by p / a sideways for
every 1 outward: what stands h off is drawn smaller, about the side's middle, by 1 / (1 + h / a). Straight rays draw it
as it is.
"""

from dataclasses import replace

import cv2
import numpy as np
import pytest

from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.cage.cage import build_cage, rays_of
from inkwell_cast.core.mesh.adjacency import edges_of
from inkwell_cast.core.mesh.mesh import Mesh, corner_positions, merge
from inkwell_cast.core.mesh.normals import face_normals
from inkwell_cast.core.rays.modifiers.straighten import picture_in, stored_picture
from inkwell_cast.core.rays.ray import ray_at
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.regions import Stroke

from ...shapes import around_cube, cube, torus
from ..bakes import baked, facts, values

SIZE, OFF = 384, 0.08  # texels of the sheet, how far a disc stands off
DISCS = {"x": ((0.12, -0.1), 0.12), "y": ((-0.2, 0.15), 0.1), "z": ((0.0, 0.2), 0.14)}  # side: middle, radius


def disc(side: str) -> Mesh:
    """The top of a short cylinder over a side of the unit cube; its wall is what no ray from above sees."""
    (u, v), radius = DISCS[side]
    a = np.linspace(0, 2 * np.pi, 121)[:-1]
    rim = np.stack([u + radius * np.cos(a), v + radius * np.sin(a), np.full(120, 0.5 + OFF)], axis=1)
    points = np.concatenate([rim, [[u, v, 0.5 + OFF]]])
    axis = "xyz".index(side)
    points = np.roll(points, axis + 1, axis=1).astype(np.float32)
    row = np.arange(120)
    return Mesh(f"disc {side}", points, np.stack([row, (row + 1) % 120, np.full(120, 120)], axis=1).astype(np.int32))


def box(**reach):
    own = Reach(unit="scene", outward=0.15, inward=0.05, margin_unit="scene", **reach)
    sculpt = merge([replace(cube(), uvs=()), *(disc(side) for side in DISCS)], "sculpt")
    return baked(cube(name="low"), sculpt, ["height"], size=SIZE, samples=4, reach_of_all=own)


def outlines(result):
    """Middle and radius of each disc as it is drawn, on the low, and the size of a texel there."""
    sheet = result.sheets[0]
    y, x = np.nonzero(result.cast.height > OFF / 2)
    t = result.cast.low_triangle[y, x]
    corners = sheet.low.grid.corners[t] / (sheet.low.grid.side << sheet.low.grid.shift)
    p = np.stack([x + 0.5, y + 0.5], axis=1)
    e, f, d = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0], p - corners[:, 0]
    whole = e[:, 0] * f[:, 1] - e[:, 1] * f[:, 0]
    b1, b2 = (d[:, 0] * f[:, 1] - d[:, 1] * f[:, 0]) / whole, (e[:, 0] * d[:, 1] - e[:, 1] * d[:, 0]) / whole
    points = corner_positions(result.low.mesh)[sheet.low.triangles[t]]
    place = np.einsum("nk,nkc->nc", np.stack([1 - b1 - b2, b1, b2], axis=1), points)
    texel = float(
        np.sqrt(
            np.linalg.norm(np.cross(points[:, 1] - points[:, 0], points[:, 2] - points[:, 0]), axis=1)[0]
            / abs(whole[0])
        )
    )
    found = {}
    for side in DISCS:
        axis = "xyz".index(side)
        own = np.roll(place[np.abs(place[:, axis] - 0.5) < 1e-4], -axis - 1, axis=1)[:, :2]
        found[side] = own.mean(axis=0), float(np.sqrt(len(own) * texel**2 / np.pi))
    return found, texel


def test_averaged_rays_draw_what_stands_off_as_the_closed_form_says():
    found, texel = outlines(box())
    for side, (middle, radius) in found.items():
        (u, v), true = DISCS[side]
        assert middle == pytest.approx(np.array([u, v]) / (1 + OFF / 0.5), abs=texel / 2)
        assert radius == pytest.approx(true / (1 + OFF / 0.5), abs=texel / 2)
        assert np.linalg.norm(middle - [u, v]) > 2 * texel  # what there is to straighten


def test_straightened_rays_draw_it_where_it_is():
    result = box(straighten=True, bend=0.1)
    found, texel = outlines(result)
    for side, (middle, radius) in found.items():
        (u, v), true = DISCS[side]
        assert middle == pytest.approx((u, v), abs=texel / 2)
        assert radius == pytest.approx(true, abs=texel / 2)
    told = result.cage.straightened
    assert told.parts == ["low/cube"] or len(told.parts) == 1
    assert 0.8 < told.share <= 1
    assert "leaning" not in [shown.flaw.cause for shown in result.flaws().shown]


def test_no_step_is_left_at_the_edges_between_islands():
    result = box(straighten=True, bend=0.1)
    rays, edges = rays_of(result.assembly, result.cage), edges_of(result.low.mesh)
    ends = np.eye(3)
    for t, k in zip(*np.nonzero(edges.across >= 0), strict=True):
        g, m = edges.across[t, k], edges.side[t, k]
        for share in (0.1, 0.4, 0.77):
            one = (1 - share) * ends[k] + share * ends[(k + 1) % 3]
            other = share * ends[m] + (1 - share) * ends[(m + 1) % 3]
            start, way, *_ = ray_at(rays, int(t), tuple(one))
            start_2, way_2, *_ = ray_at(rays, int(g), tuple(other))
            assert start == pytest.approx(start_2, abs=1e-6)
            assert np.degrees(np.arccos(np.clip(way @ way_2, -1, 1))) < 0.05


def test_a_curved_low_is_left_as_it_is():
    low = torus(40, 20)
    own = Reach(unit="scene", outward=0.2, inward=0.2, straighten=True)
    told = baked(low, torus(60, 30), ["height"], reach_of_all=own).cage.straightened
    assert told is None or told.share == 0


def test_a_straightening_stroke_turns_the_rays_under_it_and_erasing_turns_them_back():
    low, sculpt = cube(name="low"), replace(cube(name="high"), uvs=())
    own = Reach(unit="scene", outward=0.15, inward=0.05)
    strokes = [Stroke(kind="straighten", points=[(0.3, 0.3, 0.5)], radius=0.15, amount=1, falloff=0.0)]
    result = baked(low, sculpt, ["height"], reach_of_all=own, nudges=strokes)
    assert 0 < result.cage.straightened.share < 0.05

    def lean(nudges, place):
        made = baked(low, sculpt, ["height"], reach_of_all=own, nudges=nudges)
        rays, points = rays_of(made.assembly, build_cage(made.assembly)), corner_positions(made.low.mesh)
        found = []
        for t, corners in enumerate(points):
            b = np.linalg.lstsq(np.vstack([corners.T, [1, 1, 1]]), np.append(place, 1), rcond=None)[0]
            if (b > -1e-6).all() and np.allclose(b @ corners, place, atol=1e-5):
                _, way, *_ = ray_at(rays, t, tuple(b))
                found.append(np.degrees(np.arccos(-way[2])))
        return found[0]

    before, inside, outside = lean([], (0.3, 0.3, 0.5)), lean(strokes, (0.3, 0.3, 0.5)), lean(strokes, (-0.3, 0.3, 0.5))
    assert before == pytest.approx(np.degrees(np.arctan(0.6 * np.sqrt(2))), abs=0.1)
    assert inside < 0.01
    assert outside == pytest.approx(before, abs=0.1)
    half = [strokes[0].model_copy(update={"amount": 0.5})]
    assert lean(half, (0.3, 0.3, 0.5)) == pytest.approx(before / 2, abs=0.1)
    erased = [*strokes, strokes[0].model_copy(update={"kind": "erase"})]
    assert lean(erased, (0.3, 0.3, 0.5)) == pytest.approx(before, abs=0.1)


def test_a_picture_straightens_where_it_is_white_and_comes_back_as_a_map():
    picture = np.zeros((64, 64), np.uint8)
    picture[:, :22] = 255  # the sheet's first column of sides: x and its opposite
    stored = stored_picture(cv2.imencode(".png", picture)[1].tobytes(), "left.png")
    own = Reach(unit="scene", outward=0.15, inward=0.05)
    result = baked(
        cube(name="low"),
        replace(cube(), uvs=()),
        ["straightening", "height"],
        size=96,
        reach_of_all=own,
        straight_picture=stored,
    )
    made = values(result, "straightening")
    on = result.cast.covered > 0
    side = face_normals(result.low.mesh.positions, result.low.mesh.triangles)[
        result.low.triangles[result.cast.low_triangle]
    ]
    straight = np.abs(side[..., 0]) > 0.9
    assert made[on & straight] == pytest.approx(1, abs=0.01)
    assert made[on & ~straight] == pytest.approx(0, abs=0.01)
    assert facts(result, "straightening")["mean"] == pytest.approx(1 / 3, abs=0.02)
    assert result.cage.straightened.share == pytest.approx(1 / 3, abs=0.03)
    # given back as a picture, what was baked straightens the same again
    image = (result.images["straightening"][..., 0] // 257).astype(np.uint8)
    again = stored_picture(cv2.imencode(".png", image)[1].tobytes(), "again.png")
    second = baked(
        cube(name="low"), replace(cube(), uvs=()), ["height"], size=96, reach_of_all=own, straight_picture=again
    )
    inner = on & straight
    assert np.abs(second.cast.height - result.cast.height)[inner].max() < 1e-4


def test_what_is_no_picture_is_refused_by_name_and_a_large_one_is_made_smaller():
    with pytest.raises(InputProblem, match=r"poem\.txt: It is no picture"):
        stored_picture(b"roses", "poem.txt")
    stored = stored_picture(cv2.imencode(".png", np.zeros((300, 4096), np.uint8))[1].tobytes(), "wide.png")
    assert picture_in(stored).shape == (75, 1024)


def test_every_mend_of_leaning_detail_takes_most_of_it_away():
    def leaning(**more):
        own = Reach(unit="scene", outward=0.15, inward=0.05, bend=0.1, margin_unit="scene")
        made = baked(cube(name="low"), around_cube(0.03), ["normal"], size=128, samples=1, reach_of_all=own, **more)
        shown = made.flaws().shown
        return [own.flaw for own in shown if own.flaw.cause == "leaning"]

    flaws = leaning()
    assert len(flaws) >= 1
    for choice in range(3):
        left = leaning(mends=[flaw.mends[choice] for flaw in flaws])
        assert sum(flaw.share for flaw in left) < 0.3 * sum(flaw.share for flaw in flaws), flaws[0].mends[choice].words
