"""What kernels read by address lives as long as the array that holds the address."""

import gc
import weakref

import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.base.borrowed_arrays import keeping
from inkwell_cast.core.base.records import record_kind, record_of, shared
from inkwell_cast.core.cage.cage import build_cage, rays_of
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.rays.embree import Scene
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import grid_mesh, plane, torus


def scenes() -> int:
    gc.collect()
    return sum(isinstance(thing, Scene) for thing in gc.get_objects())


def partly_limiting_cage():
    """Over half of a plane, so that it sets rays there and only limits their length beyond."""
    return grid_mesh(7, 5, lambda u, v: (u * 0.7, v, 0.1 + 0 * u), "plane_cage")


def test_views_keep_what_their_array_keeps():
    class Owner:
        pass

    owner = Owner()
    gone = []
    weakref.finalize(owner, gone.append, 1)
    array = keeping(np.arange(12).reshape(3, 4), owner)
    part = array[1:, 2]
    del owner, array
    gc.collect()
    assert not gone
    del part
    gc.collect()
    assert gone


KIND = record_kind({"points": np.float32}, size=np.float64)


def test_a_record_keeps_what_it_points_to_and_refuses_what_it_cannot_read():
    points, gone = np.arange(6, dtype=np.float32).reshape(2, 3), []
    record = record_of(KIND, points=points, size=2.5)
    weakref.finalize(points, gone.append, 1)
    assert record["points"] == points.ctypes.data
    assert (record["points_count"], record["size"]) == (2, 2.5)
    assert shared(record).__array_interface__["data"][0] == record.__array_interface__["data"][0]
    del points
    gc.collect()
    assert not gone
    part = shared(record)
    del record
    gc.collect()
    assert not gone
    del part
    gc.collect()
    assert gone
    for wrong in ({"points": np.zeros(3)}, {"points": np.zeros((4, 4), np.float32)[:, 1]}, {}):
        with pytest.raises(TypeError):
            record_of(KIND, size=1.0, **wrong)
    with pytest.raises(TypeError):
        record_of(KIND, points=np.zeros(3, np.float32), size=1.0, more=2)


def test_scenes_of_a_cage_live_while_its_rays_do():
    before = scenes()
    recipe = Recipe(reach=Reach(unit="scene", outward=0.3))
    assembly = assemble(recipe, BakeMeshes([plane(4)], [plane(9, 0.05, name="high")], cages=[partly_limiting_cage()]))
    record = rays_of(assembly, build_cage(assembly)).record
    assert scenes() == before + 1
    del record
    assert scenes() == before


def test_scenes_of_a_sculpt_live_while_its_tracers_do():
    before = scenes()
    tracers = Warm().sculpt(assemble(Recipe(), BakeMeshes([torus(8, 6)], [torus(16, 8, name="high")]))).tracers
    assert scenes() == before + 1
    del tracers
    assert scenes() == before


def test_a_cage_that_partly_limits_the_length_bakes_with_all_its_findings(tmp_path):
    low = torus(24, 12, name="ring_low")
    cage = torus(17, 9, small=0.9, name="ring_cage")
    half = type(cage)(cage.name, cage.positions, cage.triangles[: len(cage.triangles) * 3 // 5])
    recipe = Recipe(
        reach=Reach(unit="scene", outward=0.3),
        sheet=Sheet(width=64, height=64, samples=1),
        output=Output(maps=["normal"]),
    )
    made = bake(recipe, BakeMeshes([low], [torus(80, 40, small=0.72, name="ring_high")], cages=[half]))
    assert 0 < made.cage.forms[0].share < 1
    gc.collect()
    assert save(made, tmp_path).flaws is not None
