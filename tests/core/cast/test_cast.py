from dataclasses import replace

import numba
import numpy as np
import pytest

from inkwell_cast.core.bake.cast_cache import laid_out
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.base.errors import RayLibraryMissing
from inkwell_cast.core.cage.cage import rays_of
from inkwell_cast.core.cast.hits import OFF
from inkwell_cast.core.mesh.mesh import Mesh, merge
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.rays import embree
from inkwell_cast.core.review.probe import probe
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.regions import Pocket
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import cube, grid_mesh, plane, torus


def recipe(outward: float, inward: float, side: int = 64, samples: int = 4) -> Recipe:
    return Recipe(
        reach=Reach(unit="scene", outward=outward, inward=inward), sheet=Sheet(width=side, height=side, samples=samples)
    )


def cast_of(low: Mesh, high: Mesh, *args, **kwargs):
    return bake(recipe(*args, **kwargs), BakeMeshes([low], [high])).cast


@pytest.mark.parametrize("height", [0.05, -0.08, 0.0])
def test_height_is_signed_and_exact(height):
    cast = cast_of(plane(), plane(4, height), 0.1, 0.1)
    assert cast.texels == 64 * 64
    assert cast.missed == 0
    np.testing.assert_allclose(cast.height, height, atol=1e-6)


@pytest.mark.parametrize(("height", "outward", "inward"), [(0.2, 0.1, 0.1), (-0.2, 0.1, 0.1), (-0.2, 0.5, 0.1)])
def test_a_sculpt_beyond_the_reach_is_missed(height, outward, inward):
    cast = cast_of(plane(), plane(1, height), outward, inward)
    assert cast.missed == cast.texels == 64 * 64
    assert (cast.hit_triangle == -1).all()


def test_the_inward_reach_is_exact():
    assert cast_of(plane(), plane(1, -0.2), 0.1, 0.2001).missed == 0
    assert cast_of(plane(), plane(1, -0.2), 0.1, 0.1999).missed == 64 * 64


def test_back_faces_are_passed_through():
    ceiling = plane(1, 0.05)
    ceiling = replace(ceiling, triangles=np.ascontiguousarray(ceiling.triangles[:, ::-1]), normals=None, uvs=())
    cast = cast_of(plane(), merge([ceiling, plane(1, -0.05)], "both"), 0.1, 0.1)
    np.testing.assert_allclose(cast.height, -0.05, atol=1e-6)


def test_the_first_of_two_fronts_is_struck():
    cast = cast_of(plane(), merge([plane(1, -0.05), plane(1, 0.03)], "both"), 0.1, 0.1)
    np.testing.assert_allclose(cast.height, 0.03, atol=1e-6)


def test_a_zero_outward_reach_still_looks_inward():
    assert cast_of(plane(), plane(1, -0.05), 0, 0.1).missed == 0


def test_rays_of_a_cube_follow_averaged_normals():
    bigger = cube(1.1)
    cast = cast_of(cube(), bigger, 0.3, 0.1, side=128)
    assert cast.missed == 0  # the averaged directions leave no gap at the edges


def test_normals_of_a_displaced_plane():
    """A sculpt z = a sin(2 pi u): its normal is known everywhere, and rays run straight down."""
    depth = 0.03

    def slope(u):
        return depth * 2 * np.pi * np.cos(2 * np.pi * u)

    def normal(u, v):
        length = np.sqrt(1 + slope(u) ** 2)
        return -slope(u) / length, 0 * u, 1 / length

    wave = grid_mesh(2000, 2, lambda u, v: (u, v, depth * np.sin(2 * np.pi * u)), "wave", normal)
    cast = cast_of(plane(), wave, 0.1, 0.1, side=128, samples=1)
    u = (np.arange(128) + 0.5) / 128
    expected = np.stack(normal(u, u), axis=-1)
    np.testing.assert_allclose(cast.normal, np.broadcast_to(expected, (128, 128, 3)), atol=2e-5)
    np.testing.assert_allclose(cast.height, np.broadcast_to(depth * np.sin(2 * np.pi * u), (128, 128)), atol=2e-6)


def test_same_bytes_whatever_the_threads():
    low, high = torus(20, 10), torus(200, 100)
    found = []
    for threads in (1, numba.config.NUMBA_NUM_THREADS):
        numba.set_num_threads(threads)
        found.append(cast_of(low, high, 0.1, 0.1, side=200, samples=4))
    for name in ("low_triangle", "sample", "covered", "struck", "normal", "height", "hit_triangle"):
        assert getattr(found[0], name).tobytes() == getattr(found[1], name).tobytes(), name


def test_border_texels_keep_the_samples_inside():
    narrow = grid_mesh(1, 1, lambda u, v: (u, v, 0 * u), uv=lambda u, v: (u * 0.505, v))
    fine, coarse = (cast_of(narrow, plane(), 0.1, 0.1, side=100, samples=s) for s in (16, 1))
    assert coarse.covered[:, 50].max() == 0  # the centre of column 50 lies outside
    assert fine.covered[:, 50].min() > 0
    assert (fine.struck == fine.covered).all()


def test_a_probe_sees_what_the_bake_saw():
    low, high = torus(20, 10), torus(200, 100)
    settings = recipe(0.1, 0.1, side=64, samples=1)
    result = bake(settings, BakeMeshes([low], [high]))
    rays = rays_of(result.assembly, result.cage, result.low.triangles)
    for x, y in [(0, 0), (31, 17), (63, 63)]:
        seen = probe(result.low, rays, result.sculpt, x, y)
        assert seen.uv == pytest.approx(((x + 0.5) / 64, 1 - (y + 0.5) / 64))
        assert seen.triangle == result.cast.low_triangle[y, x]
        assert seen.hit_triangle == result.cast.hit_triangle[y, x]
        assert seen.hit_object == "torus"
        assert seen.height == pytest.approx(result.cast.height[y, x], abs=1e-5)
        assert seen.outward + seen.inward == pytest.approx(0.2, abs=0.02)
    with pytest.raises(ValueError, match="outside the 64 x 64 sheet"):
        probe(result.low, rays, result.sculpt, 64, 0)


def test_a_probe_off_the_low_sees_nothing():
    corner = grid_mesh(1, 1, lambda u, v: (u, v, 0 * u), uv=lambda u, v: (u * 0.5, v * 0.5))
    result = bake(recipe(0.1, 0.1), BakeMeshes([corner], [plane()]))
    rays = rays_of(result.assembly, result.cage, result.low.triangles)
    assert probe(result.low, rays, result.sculpt, 60, 3) is None


def test_a_missing_ray_library_says_how_to_get_it(monkeypatch):
    monkeypatch.setattr(embree.importlib.metadata, "files", lambda name: [])
    monkeypatch.setattr(embree.sys, "platform", "nowhere")
    monkeypatch.setattr(embree.ctypes, "CDLL", lambda *a, **k: (_ for _ in ()).throw(OSError("no such file")))
    embree._library.cache_clear()
    with pytest.raises(RayLibraryMissing, match="pip install embreex"):
        embree._library()
    monkeypatch.undo()
    embree._library.cache_clear()


def test_a_pocket_has_reaches_of_its_own_and_a_soft_rim():
    pocket = Pocket(centre=(0.5, 0.5, 0), radius=0.4, outward=0.3, inward=0.1, rim=0.5)
    settings = recipe(0.1, 0.1).model_copy(update={"pockets": [pocket]})
    cast = bake(settings, BakeMeshes([plane()], [plane(1, 0.2)])).cast  # beyond the reach outside the pocket
    y, x = np.mgrid[0.5:64, 0.5:64] / 64
    distance = np.hypot(x - 0.5, y - 0.5)
    assert (cast.struck[distance < 0.2] > 0).all()
    assert (cast.struck[distance > 0.4] == 0).all()
    # the rim is smooth: 0.1 + 0.2 w = 0.2 where w = 1/2, in the middle of the rim
    edge = distance[cast.struck == 4].max()
    assert edge == pytest.approx(0.3, abs=0.02)
    np.testing.assert_allclose(cast.height[cast.struck > 0], 0.2, atol=1e-6)


def test_a_pocket_of_less_reach_keeps_rays_from_a_neighbour():
    roof = plane(1, 0.25)
    both = merge([plane(1, 0.02), roof], "high")
    pocket = Pocket(centre=(0.5, 0.5, 0), radius=2, outward=0.1, inward=0.1, rim=0)
    reached = bake(recipe(0.3, 0.1), BakeMeshes([plane()], [both])).cast
    kept = bake(recipe(0.3, 0.1).model_copy(update={"pockets": [pocket]}), BakeMeshes([plane()], [both])).cast
    np.testing.assert_allclose(reached.height, 0.25, atol=1e-6)
    np.testing.assert_allclose(kept.height, 0.02, atol=1e-6)


def sampled(high, samples, adaptive, size=64):
    """A bake of a plane, and how many rays it traced."""
    warm, meshes = Warm(), BakeMeshes([plane()], [high])
    recipe = Recipe(
        reach=Reach(unit="scene", outward=0.3, inward=0.3),
        sheet=Sheet(width=size, height=size, samples=samples, adaptive=adaptive),
        output=Output(maps=["normal", "height", "opacity"], depth=16),
    )
    result = bake(recipe, meshes, warm=warm)
    return result, int((laid_out(result.assembly, meshes, warm).sheets[0].hits.triangle != OFF).sum())


@pytest.mark.parametrize("samples", [16, 64])
def test_adaptive_samples_are_taken_where_hits_differ_and_only_there(samples):
    flat, rays = sampled(plane(4, 0.1, name="high"), samples, True)
    assert rays == 4 * 64 * 64
    assert (flat.cast.struck == 4).all()
    step = grid_mesh(2000, 2, lambda u, v: (u, v, np.where(u < 0.513, 0.25, -0.15)), "high")
    made, rays = sampled(step, samples, True)
    whole, _ = sampled(step, samples, False)
    column = int(0.513 * 64)
    assert (made.cast.struck[:, column] == samples).all()
    assert (made.cast.struck[:, [column - 3, column + 3]] == 4).all()
    assert rays < (4 + 2 * samples / 64) * 64 * 64 * 1.1
    np.testing.assert_allclose(made.cast.height, whole.cast.height, atol=1e-6)


def test_what_bends_evenly_takes_few_samples_and_what_bends_within_a_texel_all_of_them():
    evenly = grid_mesh(2000, 2, lambda u, v: (u, v, 0.8 * (u - 0.5) ** 2), "high")  # by 6 degrees a texel
    _, rays = sampled(evenly, 64, True, size=16)
    assert rays == 4 * 16 * 16
    waves = grid_mesh(4000, 2, lambda u, v: (u, v, 0.001 * np.sin(2 * np.pi * 16 * u)), "high")  # by as much to and fro
    made, rays = sampled(waves, 64, True, size=16)
    whole, _ = sampled(waves, 64, False, size=16)
    assert rays == 64 * 16 * 16
    np.testing.assert_allclose(made.cast.normal, whole.cast.normal, atol=1e-7)


def test_a_hole_and_another_object_are_worth_all_samples():
    def kept(mesh):
        centre = mesh.positions[mesh.triangles].mean(axis=1)
        return replace(
            mesh, triangles=mesh.triangles[(np.abs(centre[:, :2] - 0.5) > 0.211).any(axis=1)], normals=None, uvs=()
        )

    holed = kept(plane(200, 0.1, name="high"))
    made, whole = sampled(holed, 64, True), sampled(holed, 64, False)
    assert made[1] < whole[1] / 5
    np.testing.assert_allclose(made[0].images["opacity"].astype(int), whole[0].images["opacity"], atol=66)
    left = grid_mesh(1, 1, lambda u, v: (0.37 * u, v, 0.1 + 0 * u), "left")
    right = grid_mesh(1, 1, lambda u, v: (0.37 + 0.63 * u, v, 0.1 + 0 * u), "right")
    two, _ = sampled(replace(merge([left, right], "high"), uvs=()), 64, True)
    assert (two.cast.struck[:, int(0.37 * 64)] == 64).all()
    assert (two.cast.struck[:, 5] == 4).all()
