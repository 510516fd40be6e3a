"""Likeness as seen: it reads what a viewer sees, and gets worse whenever that does."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.review.as_seen import as_seen
from inkwell_cast.core.review.best_on_low import outermost_of
from inkwell_cast.core.review.pictures_around import APART, directions
from inkwell_cast.core.review.worn_pictures import Pictures

from ...shapes import grid_mesh, plane, torus
from ..bakes import baked

RING = torus(64, 32), replace(torus(64, 32, name="high"), uvs=())


@pytest.fixture(scope="module")
def perfect():
    """A map of an equal low."""
    return baked(*RING, ["normal", "normal_object"], size=256, samples=4)


def contexts(result):
    return [sheet.context for sheet in result.sheets]


def look(result, image, object_space=False, proof=False):
    return as_seen(contexts(result), [Pictures([image], object_space)], proof)[0]


def test_directions_are_unit_and_evenly_spread():
    found = directions(32)
    assert np.linalg.norm(found, axis=1) == pytest.approx(np.ones(32))
    assert np.abs(found.mean(axis=0)).max() < 0.01
    closest = np.sort(found @ found.T, axis=1)[:, -2]
    assert np.degrees(np.arccos(closest)).min() > 20  # 32 even ones lie some 36 degrees apart


def test_a_perfect_map_on_an_equal_low_reads_its_rounding(perfect):
    for key, object_space, most in (("normal", False, 0.1), ("normal_object", True, 0.02)):
        seen = look(perfect, perfect.images[key], object_space)
        assert seen.whole.mean < most  # 16 bits, read between texels
        assert seen.whole.over_5 == seen.whole.outline == seen.whole.inside == 0


def test_a_map_turned_by_ten_degrees_reads_ten_degrees(perfect):
    x, y, z = np.moveaxis(perfect.images["normal_object"] / 65535 * 2 - 1, 2, 0)
    around = np.arctan2(y, x)  # turned about the axis that lies across both z and the normal
    flat = np.hypot(x, y)
    lean = np.arctan2(flat, z) + np.radians(10)
    turned = np.stack([np.sin(lean) * np.cos(around), np.sin(lean) * np.sin(around), np.cos(lean)], axis=2)
    seen = look(perfect, (turned * 0.5 + 0.5).astype(np.float32), True)
    assert seen.whole.mean == pytest.approx(10, abs=0.15)
    assert seen.whole.over_5 > 0.99
    assert seen.whole.over_15 < 0.01


def test_eight_bits_sixteen_bits_and_floats_read_alike(perfect):
    image = perfect.images["normal"]
    floats = (image / 65535).astype(np.float32)
    figures = [look(perfect, each).whole for each in (image, floats, floats.astype(np.float16))]
    assert figures[0].mean == pytest.approx(figures[1].mean, abs=1e-4)
    assert figures[0].mean == pytest.approx(figures[2].mean, abs=0.05)
    eight = look(perfect, np.rint(floats * 255).astype(np.uint8)).whole
    assert figures[0].mean < eight.mean < 0.3


def test_an_island_without_its_map_reads_its_share():
    """Half of a wavy field has no map: its angles are those of the flat low."""

    def height(u, v):
        return 0.002 * np.sin(12 * np.pi * u)

    low, high = plane(4), replace(grid_mesh(240, 8, lambda u, v: (u, v, height(u, v)), "high"), uvs=())
    made = baked(low, high, ["normal"], size=256, samples=4)
    half = made.images["normal"].copy()
    half[:, :128] = np.array([32768, 32768, 65535])
    full, less = look(made, made.images["normal"]), look(made, half)
    bare = look(made, np.broadcast_to(half[:1, :1], half.shape).copy())
    assert full.whole.mean < 0.4
    assert less.whole.mean == pytest.approx((full.whole.mean + bare.whole.mean) / 2, rel=0.1)
    angles = less.angles[0]
    assert np.nanmean(angles[:, :120]) > 10 * np.nanmean(angles[:, 136:])


def test_a_plane_under_a_raised_plane_sees_an_outline_and_an_inside():
    def seen_at(height):
        made = baked(plane(2), replace(plane(2, height, name="high"), uvs=()), ["normal"], size=64)
        return look(made, made.images["normal"]).whole

    flat, near, far = seen_at(0.0), seen_at(0.02), seen_at(0.3)
    assert flat.outline < 0.01
    assert near.mean < 0.1
    assert near.outline > 0.01  # from the side the one stands beside the other
    assert near.inside > 0.2  # from below the sculpt turns its back
    assert far is None  # another place altogether: there is nothing to compare


def test_detail_that_floats_above_the_low_reads_its_parallax():
    """Normals that turn by 60 degrees a unit on a plane at height h: a direction shows each beside its place by h tan.

    They turn back at half the width, since a picture is read on from its other edge.
    """
    h, turn = 0.005, 60.0

    def normal(u, v):
        lean = np.radians(turn) * np.abs(u - 0.5)
        return np.sin(lean), 0 * v, np.cos(lean)

    floating = replace(grid_mesh(64, 1, lambda u, v: (u, v, 0 * u + h), "high", normal=normal), uvs=())
    made = baked(plane(2), floating, ["normal"], size=256, outward=0.05, inward=0.01)
    seen = look(made, made.images["normal"]).whole
    toward = directions(32)
    toward = toward[toward[:, 2] > h / (APART * 2**0.5)]  # flatter ones see the two too far apart to compare
    right = np.cross(toward, np.where(np.abs(toward[:, 2:]) < 0.9, [[0.0, 0, 1]], [[1.0, 0, 0]]))
    right /= np.linalg.norm(right, axis=1, keepdims=True)
    corner = np.array([0.5, 0.5, h / 2])
    half = np.maximum(np.abs(right) @ corner, np.abs(np.cross(right, toward)) @ corner)
    pixels = toward[:, 2] / half**2  # each picture frames the plane by itself
    parallax = np.sum(pixels * turn * h * np.abs(toward[:, 0]) / toward[:, 2]) / np.sum(pixels)
    assert seen.mean == pytest.approx(parallax, rel=0.03)


def rough_tube(u, v):
    """A tube about the ring, wavy around."""
    a, b, small = 2 * np.pi * u, 2 * np.pi * v, 0.95 + 0.03 * np.sin(40 * np.pi * u)
    across = 2 + small * np.cos(b)
    return across * np.cos(a), across * np.sin(a), small * np.sin(b)


def test_a_ruined_bake_reads_worse_and_its_excess_says_by_how_much():
    """A wavy wall stands off the ring: rays from far out strike that instead, and the ring gets its waves."""
    low, ring = torus(48, 24), replace(torus(96, 48, small=0.72, name="ring"), uvs=())
    wall = replace(grid_mesh(160, 80, rough_tube, "wall"), uvs=())
    good = baked(low, ring, ["normal"], size=128, outward=0.1)
    ruined = baked(low, merge([ring, wall], "high"), ["normal"], size=128, outward=0.6)
    scene = contexts(good)
    seen = [s.whole.mean for s in as_seen(scene, [Pictures([r.images["normal"]]) for r in (good, ruined)])]
    assert seen[1] > seen[0] + 3
    best = good.judgement().best
    assert best.whole.mean == pytest.approx(seen[0], abs=0.1)  # nothing to win on a clean bake


def test_a_hidden_pair_is_judged_alone_and_named_as_never_seen():
    """A ball inside a ring's tube would not be seen; a small ring inside a larger one is seen alone only."""

    def pair(name, small):
        return (
            replace(torus(32, 16, small=small, name=f"{name}_low"), object_names=(f"{name}_low",)),
            replace(torus(64, 32, small=small, name=f"{name}_high"), object_names=(f"{name}_high",), uvs=()),
        )

    (outer, outer_high), (inner, inner_high) = pair("outer", 0.8), pair("inner", 0.3)
    shrunk = [
        replace(m, uvs=(replace(m.uvs[0], values=m.uvs[0].values * 0.45 + at),))
        for m, at in ((outer, 0.02), (inner, 0.52))
    ]
    low = merge(shrunk, "low")
    high = merge([outer_high, inner_high], "high")
    made = baked(
        replace(low, name="all.ply"),
        replace(high, name="all_high.ply"),
        ["normal"],
        size=128,
        outward=0.05,
        inward=0.05,
    )
    seen = look(made, made.images["normal"], proof=True)
    assert len(seen.pairs) == 2
    assert all(figures.mean < 3 for figures in seen.pairs)
    assert 0.35 < seen.never_seen < 0.65


def test_a_small_part_seen_alone_weighs_by_its_surface():
    """Two balls of which the small one has a hundredth of the surface, and a map that is wholly wrong there."""

    def pair(name, size, at, column):
        low = torus(48, 24, 2 * size, 0.7 * size, name=f"{name}_low")
        positions = (low.positions + np.array([at, 0, 0])).astype(np.float32)
        uvs = (replace(low.uvs[0], values=low.uvs[0].values * 0.45 + np.float32([column, 0.02])),)
        low = replace(low, positions=positions, object_names=(f"{name}_low",), uvs=uvs)
        return low, replace(low, name=f"{name}_high", object_names=(f"{name}_high",), uvs=())

    (large, large_high), (small, small_high) = pair("large", 1.0, 0.0, 0.02), pair("small", 0.1, 5.0, 0.52)
    low, high = merge([large, small], "low"), merge([large_high, small_high], "high")
    made = baked(replace(low, name="all.ply"), replace(high, name="all_high.ply"), ["normal"], size=256)
    wrong = made.images["normal"].copy()
    wrong[:, 128:] = np.array([65535, 32768, 32768])  # 90 degrees off
    judged = made.judgement(Pictures([wrong]))
    on_small = sum(float(count[:, 128:].sum()) for count in judged.seen.counts)
    assert on_small / judged.visible[0].total == pytest.approx(0.01, rel=0.25)
    assert judged.to_mend == pytest.approx(0.9, rel=0.3)  # 90 degrees of a hundredth


def test_the_best_on_this_low_is_the_same_whatever_the_reach():
    low, high = torus(24, 12), replace(torus(96, 48, small=0.72, name="high"), uvs=())
    best = []
    for reach in (0.005, 0.05, 0.5):
        made = baked(low, high, ["normal"], size=128, outward=reach, inward=reach)
        best.append(made.judgement().best.whole.mean)
    assert max(best) == min(best)


def test_threads_change_nothing(perfect):
    first, second = (look(perfect, perfect.images["normal"]) for _ in range(2))
    assert first.whole == second.whole
    np.testing.assert_array_equal(first.angles[0], second.angles[0])


def test_sculpt_that_lies_on_the_low_itself_is_its_outermost():
    made = baked(plane(3), replace(plane(3, name="high"), uvs=()), ["normal"], size=64)
    heights = outermost_of(contexts(made)[0]).heights
    assert np.isfinite(heights[made.cast.covered > 0]).all()
    assert np.nanmax(np.abs(heights)) < 1e-6
