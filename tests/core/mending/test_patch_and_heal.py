"""Repairs: what is filled in is harmonic and crosses seams, what is taken from another bake blends without an edge."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.cast.sheet_surroundings import points_of
from inkwell_cast.core.mesh.mesh import merge, values_at_corners
from inkwell_cast.core.mesh.normals import with_normals
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings.maps import Occlusion
from inkwell_cast.core.settings.mends import Mend
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.regions import Heal, Patch, Pocket

from ...shapes import cube, grid_mesh, plane, torus
from ..bakes import baked


def pierced(height, at=(0.5, 0.5), radius=0.12):
    """A sheet of some height over the unit square with a round hole."""
    made = grid_mesh(80, 80, lambda u, v: (u, v, height(u, v)), "high")
    middle = made.positions[made.triangles].mean(axis=1)
    hole = np.hypot(middle[:, 0] - at[0], middle[:, 1] - at[1]) < radius
    return replace(made, triangles=made.triangles[~hole], uvs=())


def cut_plane():
    """The unit square whose right half lies elsewhere on the sheet: a seam runs through its middle."""
    low = plane(2)
    uv = low.uvs[0].at_corners()
    right = low.positions[low.triangles].mean(axis=1)[:, 0] > 0.5
    uv[..., 0] = np.where(right[:, None], 0.05 + 0.9 * uv[..., 0], 0.9 * uv[..., 0])
    return replace(low, uvs=(values_at_corners(uv),))


@pytest.mark.parametrize("low", [plane(2), cut_plane()])
def test_a_hole_is_filled_with_the_harmonic_function_of_its_rim(low):
    # x^2 - y^2 and x are harmonic: the fill must give them back inside
    def height(u, v):
        return 0.1 * ((u - 0.5) ** 2 - (v - 0.5) ** 2) + 0.05 * u

    result = baked(low, pierced(height), ["height", "normal", "opacity"], size=128, samples=4)
    assert result.cast.missed > 100
    heal = Heal(centre=(0.5, 0.5, 0), radius=0.14)
    healed = baked(low, pierced(height), ["height", "normal", "opacity"], size=128, samples=4, heals=[heal])
    cast, context = healed.cast, healed.sheets[0].context
    assert cast.missed == 0
    place = points_of(context)
    y, x = np.nonzero(context.healed)
    u, v = place[y, x, 0], place[y, x, 1]
    assert np.abs(cast.height[y, x] - height(u, v)).max() < 0.0015  # of 0.05 that it spans
    slope = np.stack([-(0.2 * (u - 0.5) + 0.05), 0.2 * (v - 0.5), np.ones(len(u))], axis=1)
    slope /= np.linalg.norm(slope, axis=1, keepdims=True)
    angle = np.degrees(np.arccos(np.clip(np.einsum("nc,nc->n", cast.normal[y, x], slope), -1, 1)))
    assert angle.max() < 0.5
    outside = ~context.healed
    np.testing.assert_array_equal(cast.height[outside], result.cast.height[outside])


def test_a_flaw_without_a_sculpt_is_mended_by_filling_and_does_not_count_as_likeness():
    low, high = plane(2), pierced(lambda u, v: 0 * u)
    result = baked(low, high, ["normal"], size=96, samples=1)
    (shown,) = result.flaws().shown
    (mend,) = shown.flaw.mends
    assert mend.words == "Fill it in from its rim"
    again = baked(low, high, ["normal"], size=96, samples=1, mends=[mend])
    assert again.flaws().shown == []
    angles = again.angles_in(again.images["normal"], "normal", again.sheets[0])
    assert np.isnan(angles[again.sheets[0].context.healed]).all()


def test_a_heal_off_the_low_and_one_without_a_rim_change_nothing():
    low, high = plane(2), pierced(lambda u, v: 0 * u)
    plain = baked(low, high, ["normal"], size=64)
    for heal in (Heal(centre=(9, 9, 9), radius=0.1), Heal(centre=(0.5, 0.5, 0), radius=50)):
        made = baked(low, high, ["normal"], size=64, heals=[heal])
        np.testing.assert_array_equal(made.images["normal"], plain.images["normal"])


@pytest.fixture(scope="module")
def cubes():
    return with_normals(cube(1.0, name="low")), replace(with_normals(cube(1.1)), uvs=())


def test_a_place_is_taken_from_split_rays_and_blends(cubes):
    maps, own = ["height", "normal", "occlusion", "ids"], Reach(unit="scene", outward=0.2, inward=0.2)
    averaged = baked(*cubes, maps, size=192, samples=4, reach_of_all=own)
    split = baked(*cubes, maps, size=192, samples=4, reach_of_all=own.model_copy(update={"directions": "split"}))
    patch = Patch(centre=(0.5, 0.2, 0.1), radius=0.2, rim=0.5, directions="split")
    mixed = baked(*cubes, maps, size=192, samples=4, reach_of_all=own, mends=[Mend(patches=[patch])])
    place = np.full(averaged.cast.normal.shape, np.inf)
    hits = points_of(split.sheets[0].context)  # straight above the low
    on = split.cast.covered > 0
    place[on] = hits[on] - np.array(patch.centre) - np.array([0.05, 0, 0])
    away = np.linalg.norm(place, axis=2)
    core, outside = (away < 0.09) & on, (away > 0.22) & on
    np.testing.assert_allclose(mixed.cast.height[core], split.cast.height[core], atol=1e-6)
    for key in maps:
        np.testing.assert_array_equal(mixed.images[key][outside], averaged.images[key][outside])
    # leaning rays go sqrt(3) farther at the corner; over the rim the height goes from one to the other without a step
    rim = on & (away > 0.1) & (away < 0.2) & (split.cast.height > 0)
    low, high = np.minimum(split.cast.height, averaged.cast.height), np.maximum(split.cast.height, averaged.cast.height)
    assert (mixed.cast.height[rim] >= low[rim] - 1e-6).all()
    assert (mixed.cast.height[rim] <= high[rim] + 1e-6).all()


def test_a_patch_fills_what_the_piece_missed_and_keeps_what_only_it_struck():
    low, high = plane(4), replace(plane(8, 0.1, name="high"), uvs=())
    short = Reach(unit="scene", outward=0.01, inward=0.01)
    patch = Patch(centre=(0.5, 0.5, 0), radius=0.2, outward=0.2)
    made = baked(low, high, ["height"], size=64, reach_of_all=short, patches=[patch])
    y, x = np.nonzero(made.cast.struck)
    assert 0 < len(y) < made.cast.texels
    assert made.cast.height[y, x] == pytest.approx(0.1, abs=1e-6)
    worse = Patch(centre=(0.5, 0.5, 0), radius=0.2, outward=0.001, inward=0.001)
    far = baked(
        low, high, ["height"], size=64, reach_of_all=Reach(unit="scene", outward=0.2, inward=0), patches=[worse]
    )
    assert far.cast.missed == 0


# a patch goes the same road as a bake

RINGS = torus(24, 12), torus(96, 48, small=0.72, name="high")
MAPS = ["normal", "height", "occlusion", "curvature", "position"]


def ringed(patches=(), **more):
    given = {"shape": "fitted", "margin_unit": "scene", "clearance": 0.02} | more.pop("reach", {})
    return baked(
        *RINGS,
        MAPS,
        size=96,
        samples=4,
        reach_of_all=Reach(unit="scene", outward=0.3, inward=0.3, **given),
        occlusion=Occlusion(rays=8, denoise=True),
        patches=list(patches),
        **more,
    )


@pytest.mark.parametrize("shape", ["even", "fitted"])
def test_a_patch_that_sets_nothing_changes_nothing(shape):
    """Not the fitted cage, not the denoised shade, not one step beyond the rounding of blended lengths."""
    plain = ringed(reach={"shape": shape})
    patched = ringed([Patch(centre=(2.7, 0, 0), radius=0.8)], reach={"shape": shape})
    for key in MAPS:
        off = np.abs(patched.images[key].astype(int) - plain.images[key])
        assert off.max() <= (1 if shape == "fitted" else 0), key
        assert (off > 0).mean() < 0.001, key


def test_a_patch_on_a_fitted_cage_keeps_clear_of_neighbours_as_the_fit_does():
    """A wall stands before the ring: the fit starts rays between them, an even reach beyond the wall."""
    low, ring = RINGS
    wall = torus(96, 48, small=0.95, name="wall")
    both = merge(
        [replace(ring, uvs=()), replace(wall, uvs=(), triangles=wall.triangles[:, ::-1].copy(), normals=None)], "h"
    )
    high = replace(both, objects=np.repeat([0, 1], len(ring.triangles)).astype(np.int32), object_names=("ring", "wall"))
    reach = Reach(unit="scene", outward=0.4, inward=0.3, shape="fitted", margin_unit="scene", clearance=0.02)

    def struck(patches):
        made = baked(low, high, ["height"], size=64, samples=1, reach_of_all=reach, patches=patches)
        hit = made.cast.hit_triangle[made.cast.covered > 0]
        return int((made.high.objects[hit[hit >= 0]] == 1).sum())

    ball = {"centre": (2.7, 0, 0), "radius": 0.8}
    assert struck([Patch(**ball, directions="split")]) <= struck([]) + 2


def test_tiles_cast_again_beside_a_patch_equal_a_whole_bake():
    warm = Warm()
    patch = Patch(centre=(2.7, 0, 0), radius=0.8, inward=0.2)
    pocket = Pocket(centre=(-2.7, 0, 0), radius=0.5, outward=0.4, inward=0.4)
    more = {"reach": {"shape": "even"}}
    ringed([patch], warm=warm, **more)
    again = ringed([patch], warm=warm, pockets=[pocket], reach={"shape": "even"})
    whole = ringed([patch], pockets=[pocket], reach={"shape": "even"})
    for key in MAPS:
        np.testing.assert_array_equal(again.images[key], whole.images[key], key)


def test_layers_are_gathered_anew_in_a_patch():
    """A wall stands before the ring: rays from far out strike the wall, those of the patch the ring behind it."""
    low, ring = RINGS
    wall = replace(torus(96, 48, small=0.95, name="wall"), uvs=())
    high = merge([replace(ring, uvs=()), wall], "high")
    maps = ["position", "curvature", "occlusion", "thickness"]

    def of(outward, patches=()):
        reach = Reach(unit="scene", outward=outward, inward=0.3)
        more = {"occlusion": Occlusion(rays=8), "size": 96, "samples": 4}
        return baked(low, high, maps, reach_of_all=reach, patches=list(patches), **more).sheets[0]

    patch = Patch(centre=(2.7, 0, 0), radius=0.8, rim=0.0, outward=0.1)
    far, near, patched = of(0.4), of(0.1), of(0.4, [patch])
    away = np.linalg.norm(points_of(near.context) - np.array(patch.centre), axis=2)
    on_low = near.cast.covered > 0
    core, outside = (away < 0.7) & on_low, (away > 1.0) & on_low
    for key in maps:
        assert (far.images[key] != near.images[key]).any(axis=2)[core].mean() > 0.5, key  # the wall makes a difference
        if key != "curvature":  # its range follows from the whole sheet
            np.testing.assert_array_equal(patched.images[key][core], near.images[key][core], key)
            np.testing.assert_array_equal(patched.images[key][outside], far.images[key][outside], key)
        else:
            assert (patched.images[key] != far.images[key]).any(axis=2)[core].mean() > 0.5
