"""Long work that is no longer wanted is given up between small steps."""

import threading
import time

import pytest

from inkwell_cast.core.base.errors import Cancelled
from inkwell_cast.core.base.threads import awaited
from inkwell_cast.core.cage.cage import build_cage
from inkwell_cast.core.cage.coverage import coverage
from inkwell_cast.core.cage.fit import cage_of
from inkwell_cast.core.cage.inverse_rays import locate
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.rays import embree
from inkwell_cast.core.rays.embree import Scene, Vertices
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe

from ...shapes import torus

FITTED = Recipe(reach=Reach(shape="fitted"))


@pytest.fixture(scope="module")
def piece():
    warm = Warm()
    assembly = assemble(FITTED, BakeMeshes([torus(20, 10)], [torus(200, 100, small=0.75, name="high")]), warm)
    return assembly, warm.sculpt(assembly)


def test_a_scene_is_not_built_to_its_end():
    mesh, asked = torus(400, 200), []

    def stop():
        asked.append(time.perf_counter())
        return len(asked) > 1

    with pytest.raises(Cancelled):
        Scene(Vertices(mesh.positions), mesh.triangles, cancelled=stop)
    assert len(asked) > 1
    Scene(Vertices(mesh.positions), mesh.triangles)  # and the library can build another one


def test_building_a_scene_tells_how_far_it_is_and_ends_with_the_one_who_hears_it(monkeypatch):
    monkeypatch.setattr(embree, "LOOK_SECONDS", 0.001)
    mesh, told, hearing = torus(1000, 500), [], set()

    def hear(share):
        told.append(share)
        hearing.add(threading.current_thread())

    Scene(Vertices(mesh.positions), mesh.triangles, tell=hear)
    assert told == sorted(told)
    assert 0 < told[-1] <= 1
    assert len(set(told)) > 2
    assert hearing == {threading.current_thread()}

    def fall_ill(share):
        raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        Scene(Vertices(mesh.positions), mesh.triangles, tell=fall_ill)
    assert not [thread for thread in threading.enumerate() if thread.name == "scene"]


def test_locating_and_coverage_ask(piece):
    assembly, sculpt = piece
    with pytest.raises(Cancelled):
        locate(assembly, sculpt, cancelled=lambda: True)
    located = locate(assembly, sculpt)
    with pytest.raises(Cancelled):
        coverage(assembly, sculpt, build_cage(assembly), located, cancelled=lambda: True)


def test_a_fit_asks_the_one_who_waits_for_it(piece):
    assembly, _ = piece
    stopping = threading.Event()
    warm = Warm(stopping.is_set)
    warm.sculpt(assembly)

    def heard(share):
        stopping.set()

    with pytest.raises(Cancelled):
        cage_of(assembly, warm, heard)
    stopping.clear()
    assert len(cage_of(assembly, warm).offsets) == len(assembly.low.triangles)


def test_a_native_call_is_left_to_itself():
    held = threading.Event()

    def look():
        raise Cancelled

    with pytest.raises(Cancelled):
        awaited(lambda: held.wait(60), look)
    held.set()
    assert awaited(lambda: 7, lambda: None) == 7
    with pytest.raises(TimeoutError, match="own"):
        awaited(lambda: (_ for _ in ()).throw(TimeoutError("own")), lambda: None)
