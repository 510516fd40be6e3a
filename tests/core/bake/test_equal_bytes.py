"""The same bytes for every map, whatever the threads, the order of tiles, and how many are worked on at once."""

import pickle
from dataclasses import replace

import numba
import numpy as np
import pytest

from inkwell_cast.core.bake import cast_and_gather
from inkwell_cast.core.bake.bands import Band, find_band
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.base import threads
from inkwell_cast.core.maps import REGISTRY
from inkwell_cast.core.mesh.mesh import CornerValues, merge
from inkwell_cast.core.piece import scene_cache
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings.maps import Curvature, Glow, Light, Occlusion, Rounded
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.regions import Stroke
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import cube, torus
from ..bakes import moved

SIDE = 96


@pytest.fixture(scope="module")
def meshes():
    """Two rings, the second a pair of its own out of reach here and there, and a floater over the first."""
    first, second = wavy(torus(200, 100, name="ring_high")), moved(torus(200, 100, name="band_high"), (2, 0, 0.7))
    lows = [torus(20, 10, name="ring_low"), moved(torus(16, 8, name="band_low"), (2, 0, 0.5))]
    low = merge([half(mesh, 0.5 * n) for n, mesh in enumerate(lows)], "low")
    knob = moved(cube(0.8, (0, 0, 0), "ring_float"), (2.0, 0, 0.35))
    lamp = replace(second, emission_colors=np.array([[2.0, 1.0, 0.5]], np.float32))
    return BakeMeshes([], [], [low, merge([first, knob, lamp], "high")])


def wavy(mesh):
    """A coloured ring with grooves."""
    waves = 1 + 0.02 * np.sin(9 * mesh.positions[:, :1])
    colors = np.concatenate([mesh.positions * 0.2 + 0.5, np.ones_like(mesh.positions[:, :1])], axis=1)
    return replace(
        mesh,
        positions=(mesh.positions * waves).astype(np.float32),
        normals=None,
        colors=CornerValues(colors.astype(np.float32), mesh.triangles),
    )


def half(mesh, left):
    uv = mesh.uvs[0]
    return replace(mesh, uvs=(replace(uv, values=(uv.values * [0.5, 1] + [left, 0]).astype(np.float32)),))


def recipe():
    return Recipe(
        reach=Reach(unit="scene", outward=0.1, inward=0.1),
        sheet=Sheet(width=SIDE, height=SIDE, samples=16),
        output=Output(maps=[*REGISTRY], depth=16),
        occlusion=Occlusion(occluders="piece x low", denoise=True),
        curvature=Curvature(radius=12.0),
        glow=Glow(rays=16, bounces=2, denoise=True),
        light=Light(rays=16, bounces=2),
        rounded=Rounded(rays=16),
        nudges=[Stroke(points=[(2.7, 0, 0)], radius=0.8, amount=1, kind="straighten", falloff=0.5)],
    )


@pytest.fixture(scope="module")
def once(meshes):
    return bake(recipe(), meshes).images


def one_thread(monkeypatch):
    numba.set_num_threads(1)


def one_tile_at_a_time(monkeypatch):
    monkeypatch.setattr(threads, "BATCH_SECONDS", 0.0)


def the_last_tile_first(monkeypatch):
    in_order = cast_and_gather.by_pair
    monkeypatch.setattr(cast_and_gather, "by_pair", lambda *given: in_order(*given)[::-1].copy())


def quickly_built_scenes(monkeypatch):
    monkeypatch.setattr(scene_cache, "quickly_built", lambda recipe, triangles: True)


@pytest.mark.parametrize("otherwise", [one_thread, one_tile_at_a_time, the_last_tile_first, quickly_built_scenes])
def test_every_map_has_the_same_bytes(meshes, once, otherwise, monkeypatch):
    otherwise(monkeypatch)
    try:
        again = bake(recipe(), meshes).images
    finally:
        numba.set_num_threads(numba.config.NUMBA_NUM_THREADS)
    assert set(again) == set(once) == set(REGISTRY)
    for key, image in once.items():
        assert len(np.unique(image)) > 1, key
        np.testing.assert_array_equal(again[key], image, err_msg=key)


class Others:
    """Two who know nothing of each other find the bands of a sheet in turn, the last band first."""

    def find(self, recipe, meshes, sheet, tiles, layers, cancelled):
        self.asked = sheet, len(tiles), layers
        warm = [Warm(), Warm()]
        for n, part in reversed([*enumerate(np.array_split(tiles, 5))]):
            found = find_band(recipe, meshes, Band(sheet, part, layers), warm[n % 2], cancelled)
            yield pickle.loads(pickle.dumps(found))


def test_every_map_has_the_same_bytes_when_others_cast_it(meshes, once):
    others = Others()
    again = bake(recipe(), meshes, remote=others).images
    assert others.asked[1] == 9
    for key, image in once.items():
        np.testing.assert_array_equal(again[key], image, err_msg=key)
