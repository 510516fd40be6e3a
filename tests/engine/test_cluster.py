"""The workers of a Dask cluster find what one machine finds, byte for byte, whatever becomes of them meanwhile."""

import os
import signal
import sys
import time
from dataclasses import replace

import cloudpickle
import dask
import numpy as np
import pytest
from distributed import CancelledError, Future, LocalCluster, WorkerPlugin

from inkwell_cast import __version__
from inkwell_cast.cli import main
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.base.errors import Cancelled, InputProblem
from inkwell_cast.core.handoff.batch import read_summary
from inkwell_cast.core.handoff.whole_or_nothing import listing_of
from inkwell_cast.core.mesh.binary_message import write_packed
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.engine.cluster import ClusterAt, client, cluster_at, connection, on_worker
from inkwell_cast.engine.cluster.client import Cluster
from inkwell_cast.engine.cluster.connection import resources_of
from inkwell_cast.engine.cluster.mesh_store import MeshStore
from inkwell_cast.engine.engine import Engine
from inkwell_cast.engine.messages import BakeInto, Source

from ..shapes import torus

cloudpickle.register_pickle_by_value(sys.modules[__name__])
MEMORY = 2_000_000_000
QUICK = {"dashboard_address": ":0", "silence_logs": 60, "threads_per_worker": 1, "host": "127.0.0.1"}


def recipe(**changes):
    side = changes.pop("side", 256)
    return Recipe(
        reach=Reach(unit="scene", outward=0.1, inward=0.1),
        sheet=Sheet(width=side, height=side, samples=4),
        output=Output(maps=["normal", "occlusion", "ids"]),
        **changes,
    )


@pytest.fixture(scope="module")
def meshes():
    return BakeMeshes([torus(20, 10, name="ring_low")], [torus(200, 100, name="ring_high")])


@pytest.fixture(scope="module")
def once(meshes):
    return bake(recipe(), meshes).images


@pytest.fixture(scope="module")
def theirs(tmp_path_factory):
    """Where workers keep meshes: as on another machine, not where this process does."""
    with pytest.MonkeyPatch.context() as patch, dask.config.set({"distributed.scheduler.allowed-failures": 0}):
        patch.setenv("INKWELL_CAST_MESHES", str(tmp_path_factory.mktemp("ours")))
        yield tmp_path_factory.mktemp("theirs")


@pytest.fixture(scope="module")
def local(theirs):
    with LocalCluster(
        n_workers=2, resources=resources_of(MEMORY, 1), env={"INKWELL_CAST_MESHES": str(theirs)}, **QUICK
    ) as made:
        yield made


@pytest.fixture
def cluster(local):
    made = cluster_at(local.scheduler_address)
    yield made
    made._client.run(as_it_was)
    made.close()


def same(one, other):
    assert set(one) == set(other)
    for key, image in one.items():
        np.testing.assert_array_equal(other[key], image, err_msg=key)


def forget():
    from inkwell_cast.engine.cluster import on_worker

    on_worker._kept.forget()


def as_it_was():
    from inkwell_cast.core.bake.bands import find_band
    from inkwell_cast.engine.cluster import on_worker

    on_worker.find_band = find_band


def instead(make):
    """What has workers find bands by another function, made of the usual one and of who is a chosen one of them."""

    def patch(chosen, dask_worker):
        from inkwell_cast.core.bake.bands import find_band
        from inkwell_cast.engine.cluster import on_worker

        on_worker.find_band = make(find_band, dask_worker.address == chosen)

    return patch


def slow(usual, chosen):
    def find(*given):
        import time

        time.sleep(0.6 if chosen else 0.05)
        return usual(*given)

    return find


def cramped(usual, chosen):
    def find(recipe, meshes, band, *given):
        if len(band.tiles) > (1 if chosen else 3):
            raise MemoryError
        return usual(recipe, meshes, band, *given)

    return find


def asked_by_native_code(usual, chosen):
    def find(recipe, meshes, band, warm, cancelled):
        from concurrent.futures import ThreadPoolExecutor

        with ThreadPoolExecutor(1) as another:
            assert another.submit(warm.stopped_alone).result() is False
        return usual(recipe, meshes, band, warm, cancelled)

    return find


class KilledByLargeBands(WorkerPlugin):
    """Whichever worker takes the band with the first tile, and is given more than two with it, is gone."""

    name = "killed"

    def setup(self, worker):
        from inkwell_cast.core.bake.bands import find_band
        from inkwell_cast.engine.cluster import on_worker

        def find(recipe, meshes, band, *given):
            import os

            if 0 in band.tiles and len(band.tiles) > 4:
                os._exit(9)
            return find_band(recipe, meshes, band, *given)

        on_worker.find_band = find


def test_every_map_has_the_same_bytes_and_the_meshes_travel_once(cluster, meshes, once, theirs, monkeypatch):
    told = []
    same(once, bake(recipe(), meshes, lambda stage, share: told.append(stage), remote=cluster).images)
    assert "casting rays" in told
    assert {path.name for path in theirs.iterdir()} == {path.name for path in MeshStore().folder.iterdir()}
    monkeypatch.setattr(MeshStore, "bytes_of", None)  # what would be sent
    same(once, bake(recipe(), meshes, remote=cluster).images)


def test_a_band_that_ends_every_worker_is_cut_in_two(cluster, meshes, once):
    cluster._client.register_plugin(KilledByLargeBands())
    try:
        same(once, bake(recipe(), meshes, remote=cluster).images)
    finally:
        cluster._client.unregister_worker_plugin("killed")
    cluster._client.run(as_it_was)


@pytest.mark.deep
@pytest.mark.parametrize("trouble", [slow, cramped, asked_by_native_code])
def test_the_same_bytes_with_a_worker_that_is(trouble, cluster, meshes, once):
    chosen = next(iter(cluster._client.scheduler_info()["workers"]))
    cluster._client.run(instead(trouble), chosen)
    same(once, bake(recipe(), meshes, remote=cluster).images)


@pytest.mark.deep
def test_the_same_bytes_when_workers_and_meshes_are_lost_and_another_joins_late(local, cluster, meshes, once, theirs):
    cluster._client.run(instead(slow), "")
    for path in theirs.iterdir():
        path.unlink()
    lost = []

    def trouble(stage, share):
        if stage == "casting rays" and share > 0.7 and not lost:
            lost.extend(cluster._client.run(os.getpid).values())
            for path in theirs.iterdir():
                path.unlink()
            for pid in lost:
                os.kill(pid, signal.SIGKILL)
            local.scale(3)

    same(once, bake(recipe(), meshes, trouble, remote=cluster).images)
    assert len(lost) >= 2


def test_what_goes_while_it_is_fetched_is_found_again(cluster, meshes, once, monkeypatch):
    fetch, gone = Future.result, []

    def result(self, timeout=None):
        if self.key.startswith("find") and not gone:
            gone.append(self.key)
            raise CancelledError(self.key)
        return fetch(self, timeout=timeout)

    monkeypatch.setattr(Future, "result", result)
    same(once, bake(recipe(), meshes, remote=cluster).images)
    assert gone


def test_what_is_lost_again_and_again_is_told(cluster, meshes, theirs, monkeypatch):
    monkeypatch.setattr(Cluster, "_send", lambda self, asking: None)
    for path in theirs.iterdir():
        path.unlink()
    cluster._client.run(forget)
    with pytest.raises(InputProblem, match=r"A part of the bake was lost 4 times\. Look at the logs"):
        bake(recipe(), meshes, remote=cluster)


def test_workers_that_stay_away_are_told(meshes, theirs, monkeypatch):
    monkeypatch.setattr(client, "ALONE_FOR", 0.5)
    with LocalCluster(n_workers=1, resources=resources_of(MEMORY, 1), **QUICK) as made:
        left = cluster_at(made.scheduler_address)
        left._client.run(instead(slow), "")

        def tell(stage, share):
            if stage == "casting rays":
                made.scale(0)

        with pytest.raises(InputProblem, match=r"All its workers have been gone for 0\.5 seconds"):
            bake(recipe(), meshes, tell, remote=left)
        left.close()


def test_a_bake_that_is_cancelled_leaves_workers_nothing_to_do(cluster, meshes):
    cluster._client.run(instead(slow), "")
    shares = []

    def tell(stage, share):
        if stage == "casting rays":
            shares.append(share)

    with pytest.raises(Cancelled):
        bake(recipe(), meshes, tell, lambda: bool(shares), remote=cluster)
    assert len(shares) == 1
    while any(cluster._client.processing().values()):
        time.sleep(0.1)


@pytest.mark.deep
def test_a_scheduler_that_goes_is_told_and_found_again_once_it_is_back(meshes, once, theirs):
    made = LocalCluster(n_workers=1, resources=resources_of(MEMORY, 1), scheduler_port=0, **QUICK)
    at = made.scheduler_address
    again = ClusterAt(at)
    cluster = again.connected()
    cluster._client.run(instead(slow), "")
    closed = []

    def tell(stage, share):
        if stage == "casting rays" and not closed:
            closed.append(stage)
            made.close()

    with pytest.raises(InputProblem, match=r"The connection to its scheduler was lost. Start it again") as lost:
        bake(recipe(), meshes, tell, remote=cluster)
    assert at in str(lost.value)
    port = int(at.rpartition(":")[2])
    with LocalCluster(n_workers=1, resources=resources_of(MEMORY, 1), scheduler_port=port, **QUICK):
        same(once, bake(recipe(), meshes, remote=again.connected()).images)
        again.connected().close()


def test_what_no_cluster_can_be_is_refused_in_words(monkeypatch):
    monkeypatch.setattr(connection, "CONNECT_WITHIN", 3)
    for address, words in (
        ("local:many", "“many” is no number of workers. Give local:1 to local:64"),
        ("somewhere", "That is no address of a cluster. Give tcp://HOST:PORT"),
    ):
        with pytest.raises(InputProblem, match=words):
            cluster_at(address)
    with LocalCluster(n_workers=0, **QUICK) as made:
        with pytest.raises(InputProblem, match=r"It has no workers. Start some with: inkwell-cast worker tcp://"):
            cluster_at(made.scheduler_address)
        made.scale(1)
        made.wait_for_workers(1)
        with pytest.raises(InputProblem, match="It was not started as one of this program"):
            cluster_at(made.scheduler_address)


def test_a_worker_of_another_version_or_too_small_is_refused_by_name(meshes, theirs):
    older = {name.replace(__version__, "0.0.1"): value for name, value in resources_of(MEMORY, 1).items()}
    with (
        LocalCluster(n_workers=1, resources=older, **QUICK) as made,
        pytest.raises(InputProblem, match=f"It runs version 0.0.1, and this is version {__version__}"),
    ):
        cluster_at(made.scheduler_address)
    with LocalCluster(n_workers=1, resources=resources_of(1_000_000, 1), **QUICK) as made:
        small = cluster_at(made.scheduler_address)
        with pytest.raises(InputProblem, match=r"A sheet of this bake takes .* MB, and its largest worker has 1 MB"):
            bake(recipe(), meshes, remote=small)
        small.close()


@pytest.mark.deep
def test_whole_pieces_of_a_batch_are_baked_by_workers_as_here(local, ring_files, tmp_path):
    for name in ("one", "two"):
        (tmp_path / "in" / name).mkdir(parents=True)
        for path in ring_files:
            (tmp_path / "in" / name / path.name).write_bytes(path.read_bytes())
    (tmp_path / "in" / "two" / ring_files[0].name).write_bytes(b"mtllib none\n")
    settings = tmp_path / "recipe.json"
    settings.write_text(recipe(side=64).model_dump_json())
    usual = ["run", str(tmp_path / "in"), "--recipe", str(settings), "--out"]
    assert main([*usual, str(tmp_path / "here")]) == 3
    assert main([*usual, str(tmp_path / "there"), "--cluster", local.scheduler_address]) == 3
    here, there = (read_summary(tmp_path / where) for where in ("here", "there"))
    assert [(o.piece, o.state, o.likeness, o.folder, o.inputs) for o in here.outcomes] == [
        (o.piece, o.state, o.likeness, o.folder, o.inputs) for o in there.outcomes
    ]
    assert [outcome.state for outcome in there.outcomes] == ["done", "failed"]
    assert here.outcomes[1].message == there.outcomes[1].message
    files = [
        {
            name: digest
            for name, digest in listing_of(tmp_path / where / "one" / "manifest.json").files.items()
            if name.endswith(".png")
        }
        for where in ("here", "there")
    ]
    assert files[0] == files[1]
    assert files[0]


@pytest.mark.deep
def test_a_full_bake_of_the_page_is_traced_there(local, meshes, once, tmp_path):
    sources = []
    for mesh in (meshes.lows[0], meshes.highs[0]):
        write_packed(tmp_path / mesh.name, mesh)
        sources.append(Source(str(tmp_path / mesh.name), mesh.name, ""))
    engine = Engine(cluster=local.scheduler_address)
    (tmp_path / "baked").mkdir()
    try:
        manifest = engine.submit(BakeInto(recipe(), sources, str(tmp_path / "baked"))).future.result(120)
    finally:
        engine.close()
    assert "casting remote" in manifest.seconds
    assert not any(name.startswith("casting rays") for name in manifest.seconds)


def test_where_no_scheduler_is_that_is_said(monkeypatch):
    monkeypatch.setattr(connection, "CONNECT_WITHIN", 0.5)
    assert ClusterAt("").connected() is None
    with pytest.raises(InputProblem, match=r"tcp://127.0.0.1:9: No scheduler answers there"):
        ClusterAt("tcp://127.0.0.1:9").connected()


def test_a_mesh_is_kept_by_its_content_and_the_one_used_longest_ago_goes_first(tmp_path, meshes):
    store = MeshStore(tmp_path, room=10_000_000)
    low = store.keep(meshes.lows[0])
    assert store.keep(replace(meshes.lows[0])) == low
    again = store.read(low)
    np.testing.assert_array_equal(again.positions, meshes.lows[0].positions)
    other = store.keep(meshes.highs[0])
    for age, digest in enumerate((low, other)):
        os.utime(store.path_of(digest), (1000 + age, 1000 + age))
    store.read(low)
    small = MeshStore(tmp_path, room=sum(path.stat().st_size for path in tmp_path.iterdir()) + 10)
    data = store.bytes_of(low)
    digest = small.keep(replace(meshes.lows[0], name="another"))
    assert store.holds(low)
    assert store.holds(digest)
    assert not store.holds(other)
    with pytest.raises(ValueError, match="came damaged"):
        store.keep_sent({digest: b"is there", "0" * 64: data})


def test_a_worker_that_has_lost_a_mesh_says_so(tmp_path, monkeypatch):
    monkeypatch.setenv("INKWELL_CAST_MESHES", str(tmp_path))
    carried = on_worker.MeshDigests(("0" * 64,), {"lows": (0,), "highs": ()})
    with pytest.raises(on_worker.Lacking):
        on_worker._Kept().meshes_of(carried, {})
