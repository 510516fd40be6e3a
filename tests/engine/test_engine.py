import os
import signal
import threading
import time
from collections import deque
from dataclasses import replace
from types import SimpleNamespace

import numpy as np
import pytest

from inkwell_cast.core.bake.manifest import sha256_of
from inkwell_cast.core.formats import read_mesh, write_mesh
from inkwell_cast.core.mesh.binary_message import read_packed, unpack_header, write_packed
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.engine.engine import Engine
from inkwell_cast.engine.messages import (
    PEEK,
    BakeInto,
    CheckPiece,
    Draw,
    Export,
    JudgeProof,
    Load,
    ProbeAt,
    SectionAt,
    ShowProof,
    Source,
)
from inkwell_cast.engine.ticket import JobFailed, State
from inkwell_cast.kernel_cache import COMPLETE

from ..shapes import torus
from .waiting import wait

LONG = Recipe(sheet=Sheet(width=4096, height=4096, samples=16), output=Output(maps=["normal"]))
SHORT = Recipe(sheet=Sheet(width=64, height=64, samples=1), output=Output(maps=["normal"]))


@pytest.fixture(scope="module")
def engine():
    made = Engine()
    yield made
    made.close()


@pytest.fixture(scope="module")
def sources(tmp_path_factory):
    folder = tmp_path_factory.mktemp("meshes")
    found = []
    for role, mesh in (("low", torus(16, 8)), ("high", torus(300, 150))):
        path = folder / role
        write_packed(path, replace(mesh, name=f"ring_{role}.ply", object_names=(f"ring_{role}",)))
        found.append(Source(str(path), f"ring_{role}.ply", sha256_of(path)))
    return found


def test_bakes_tell_their_progress_and_keep_the_scene_warm(engine, sources, tmp_path):
    told = []
    first = wait(engine.submit(BakeInto(SHORT, sources, str(tmp_path)), lambda stage, share: told.append(share)))
    second = wait(engine.submit(BakeInto(SHORT, sources, str(tmp_path))))
    assert told == sorted(told)
    assert told
    assert second.seconds["scene"] < max(first.seconds["scene"] / 5, 0.002)
    assert [m.file for m in first.meshes] == ["ring_low.ply", "ring_high.ply"]


def test_a_file_is_loaded_and_kept_as_it_is(engine, tmp_path):
    mesh = torus(16, 8, name="ring_low.obj")
    write_mesh(tmp_path / "ring_low.obj", mesh)
    loaded = wait(engine.submit(Load(str(tmp_path / "ring_low.obj"), "ring_low.obj", str(tmp_path / "copy"))))
    assert (loaded.triangles, loaded.channels, [p.name for p in loaded.parts]) == (256, 1, ["ring_low.obj"])
    kept = read_packed(tmp_path / "copy")
    np.testing.assert_array_equal(kept.positions, mesh.positions)
    np.testing.assert_array_equal(kept.uvs[0].at_corners(), mesh.uvs[0].at_corners())


def test_a_piece_is_drawn_checked_and_exported(engine, sources, tmp_path):
    for what in ("low", "cage"):
        wait(engine.submit(Draw(SHORT, sources, what, str(tmp_path / what))))
        assert (tmp_path / what).stat().st_size > 256 * 36
    wait(engine.submit(Draw(SHORT, sources, "sculpt", str(tmp_path / "sculpt"), "ring_high.ply", ("ring_high",))))
    assert unpack_header(tmp_path / "sculpt")["triangles"] == 90_000
    assert wait(engine.submit(CheckPiece(SHORT, sources))) == []
    wait(engine.submit(Export(SHORT, sources, "cage", str(tmp_path / "cage.ply"))))
    assert len(read_mesh(tmp_path / "cage.ply").triangles) == 256
    assert (tmp_path / "cage.ply").stat().st_size > 3000


def test_a_bad_file_is_told_by_the_name_it_came_with(engine, tmp_path):
    (tmp_path / "blob").write_bytes(b"noise")
    with pytest.raises(JobFailed, match=r"sent\.obj: No faces") as failed:
        wait(engine.submit(Load(str(tmp_path / "blob"), "sent.obj", str(tmp_path / "view"))))
    assert failed.value.kind == "input"


def test_a_texel_can_be_probed(engine, sources):
    seen = wait(engine.submit(ProbeAt(SHORT, sources, "", 10, 20)))
    assert seen.hit_object == "ring_high"


def test_following_the_pointer_does_not_count_as_busy(engine, sources, tmp_path):
    at = (
        ProbeAt(SHORT, sources, "", 10, 20),
        SectionAt(SHORT, sources, 0, (0.0, 0.0, 0.0), 0.0, 1.0, "u", (0.0, 0.0, 1.0)),
    )
    tickets = [engine.submit(at[n % 2]) for n in range(6)]
    assert not engine.busy
    tickets.append(engine.submit(CheckPiece(SHORT, sources)))
    assert engine.busy
    assert all(wait(ticket) is not None for ticket in tickets)


def running(engine, sources, folder):
    """A long bake that is really at work, and an event that its progress sets."""
    at_work = threading.Event()
    ticket = engine.submit(
        BakeInto(LONG, sources, str(folder)),
        lambda stage, share: at_work.set() if stage.startswith("casting") else None,
    )
    assert at_work.wait(300)
    return ticket


def test_a_cancel_ends_the_job_and_keeps_the_process(engine, sources, tmp_path):
    before = engine.process_id
    ticket = running(engine, sources, tmp_path)
    until = time.monotonic() + 300
    while not (tmp_path / PEEK).exists() and time.monotonic() < until:
        time.sleep(0.01)
    ticket.stop()
    with pytest.raises(JobFailed) as failed:
        wait(ticket, 20)
    assert failed.value.kind == "cancelled"
    assert os.listdir(tmp_path) == []
    wait(engine.submit(BakeInto(SHORT, sources, str(tmp_path))))
    assert engine.process_id == before


def test_a_job_cancelled_while_it_waits_never_starts(engine, sources, tmp_path):
    first = running(engine, sources, tmp_path)
    started = []
    second = engine.submit(BakeInto(SHORT, sources, str(tmp_path)), on_start=lambda: started.append(1))
    second.stop()
    first.stop()
    with pytest.raises(JobFailed):
        wait(second, 10)
    assert not started


def test_a_job_whose_process_is_ended_from_outside_is_done_once_more(engine, sources, tmp_path):
    ticket = running(engine, sources, tmp_path)
    first = engine.process_id
    os.kill(first, signal.SIGKILL)
    while engine.process_id in (None, first) or ticket.state is not State.AT_WORK:
        time.sleep(0.01)
    os.kill(engine.process_id, signal.SIGKILL)
    with pytest.raises(JobFailed, match="signal 9"):
        wait(ticket, 10)
    first = engine.process_id
    ticket = engine.submit(BakeInto(SHORT, sources, str(tmp_path)))
    while engine.process_id in (None, first) or ticket.state is not State.AT_WORK:
        time.sleep(0.01)
    os.kill(engine.process_id, signal.SIGTERM)
    assert wait(ticket).texels == 64 * 64


def test_a_process_that_dies_by_its_job_fails_it_and_is_replaced(engine, sources, tmp_path):
    ticket = running(engine, sources, tmp_path)
    dead = engine.process_id
    os.kill(dead, signal.SIGSEGV)
    with pytest.raises(JobFailed, match=f"signal {int(signal.SIGSEGV)}") as failed:
        wait(ticket, 10)
    assert failed.value.kind == "died"
    assert wait(engine.submit(BakeInto(SHORT, sources, str(tmp_path)))).texels == 64 * 64
    assert engine.process_id != dead


def test_a_process_that_ignores_a_cancel_is_ended(engine, sources, tmp_path):
    ticket = running(engine, sources, tmp_path)
    stopped = engine.process_id
    os.kill(stopped, signal.SIGSTOP)  # stands for native code that hangs
    ticket.stop()
    with pytest.raises(JobFailed) as failed:
        wait(ticket, 10)
    assert failed.value.kind == "cancelled"  # told before the process is gone
    assert wait(engine.submit(BakeInto(SHORT, sources, str(tmp_path)))).texels == 64 * 64
    assert engine.process_id != stopped


def test_a_waiting_job_ends_at_once_when_it_is_stopped(engine, sources, tmp_path):
    first = running(engine, sources, tmp_path)
    second = engine.submit(BakeInto(SHORT, sources, str(tmp_path)))
    second.stop()
    assert second.future.done()
    assert not first.future.done()
    first.stop()
    with pytest.raises(JobFailed):
        wait(first, 10)


def test_a_job_out_of_date_is_never_killed(engine, sources, tmp_path):
    ticket = running(engine, sources, tmp_path)
    process = engine.process_id
    os.kill(process, signal.SIGSTOP)  # stands for work that does not look at its cancel for long
    ticket.stop(patient=True)
    time.sleep(1.5)
    assert not ticket.future.done()
    os.kill(process, signal.SIGCONT)
    with pytest.raises(JobFailed):
        wait(ticket, 10)
    assert engine.process_id == process


def test_books_that_cannot_be_written_harm_no_job(engine, sources, tmp_path):
    def full(*_):
        raise OSError(28, "No space left on device")

    for n in range(3):
        folder = tmp_path / str(n)
        size = SHORT.model_copy(update={"sheet": Sheet(width=64 << n, height=64, samples=1)})
        made = wait(engine.submit(BakeInto(size, sources, str(folder)), full, full))
        assert made.sheets[0].width == 64 << n  # its own answer, not that of the job before
    with pytest.raises(JobFailed, match="nothing_here"):
        wait(engine.submit(Load(str(tmp_path / "nothing_here.obj"), "nothing_here.obj", "x"), full, full))


def test_a_caller_that_went_away_does_not_stop_the_engine(engine, sources, tmp_path):
    first = running(engine, sources, tmp_path)
    waiting = engine.submit(BakeInto(SHORT, sources, str(tmp_path)))
    assert waiting.future.cancel()  # what asyncio does when a request is cancelled
    first.stop()
    assert wait(engine.submit(BakeInto(SHORT, sources, str(tmp_path)))).texels == 64 * 64


def test_closing_ends_the_process_whatever_it_does(sources, tmp_path):
    engine = Engine()
    running(engine, sources, tmp_path)
    child = engine.process_id
    engine.close()
    for _ in range(100):
        try:
            os.kill(child, 0)
        except ProcessLookupError:
            return
        time.sleep(0.05)
    pytest.fail("the baking process outlived its engine")


def test_what_follows_the_pointer_is_answered_in_the_midst_of_a_bake(engine, sources, tmp_path):
    ticket = running(engine, sources, tmp_path)
    for n in range(3):
        assert wait(engine.submit(ProbeAt(SHORT, sources, "", 10 + n, 20)), 30).hit_object == "ring_high"
    assert not ticket.future.done()
    ticket.stop()
    with pytest.raises(JobFailed, match=r"Cancelled\."):
        wait(ticket, 20)


def test_a_bake_is_the_same_whatever_was_answered_in_its_midst(engine, sources, tmp_path):
    recipe = SHORT.model_copy(update={"sheet": Sheet(width=512, height=512, samples=16)})
    alone, disturbed, between = (tmp_path / name for name in ("alone", "disturbed", "between"))
    for folder in (alone, disturbed, between):
        folder.mkdir()
    wait(engine.submit(BakeInto(recipe, sources, str(alone))))
    moved = recipe.model_copy(update={"reach": recipe.reach.model_copy(update={"outward": 4.0})})
    wait(engine.submit(BakeInto(moved, sources, str(between))))
    ticket = engine.submit(BakeInto(recipe, sources, str(disturbed)))
    asked = 0
    while not ticket.future.done():
        wait(engine.submit(ProbeAt(moved, sources, "", 10, 20)))
        asked += 1
    assert asked > 1
    assert wait(ticket).maps[0].sha256 == sha256_of(alone / "normal.png")


def test_the_pointer_s_job_fails_with_the_process_that_it_was_given_to(engine, sources, tmp_path):
    ticket = running(engine, sources, tmp_path)
    os.kill(engine.process_id, signal.SIGSTOP)
    probe = engine.submit(ProbeAt(SHORT, sources, "", 10, 20))
    until = time.monotonic() + 10
    while probe not in engine._inner.values() and time.monotonic() < until:
        time.sleep(0.01)
    os.kill(engine.process_id, signal.SIGKILL)
    with pytest.raises(JobFailed):
        wait(probe, 10)
    ticket.stop()
    with pytest.raises(JobFailed):
        wait(ticket, 20)
    assert wait(engine.submit(ProbeAt(SHORT, sources, "", 10, 20))).hit_object == "ring_high"


def test_checks_give_way_to_a_file_and_end_all_the_same(engine, sources, tmp_path):
    """Files are read before the checks that wait; checks at work begin again after them."""
    mesh = torus(16, 8, name="ring_low.obj")
    write_mesh(tmp_path / "ring_low.obj", mesh)
    load = Load(str(tmp_path / "ring_low.obj"), "ring_low.obj", str(tmp_path / "copy"))
    bake = running(engine, sources, tmp_path / "bake")
    order = []
    tickets = []
    for job, name in ((CheckPiece(SHORT, sources), "checks"), (load, "file")):
        tickets.append(engine.submit(job))
        tickets[-1].future.add_done_callback(lambda _, name=name: order.append(name))
    bake.stop()
    assert wait(tickets[0]) == []
    assert order == ["file", "checks"]


def test_what_judges_waits_until_all_kernels_are_compiled_and_a_picture_does_not(tmp_path):
    waiting = [SimpleNamespace(job=kind(SHORT, [], "normal")) for kind in (JudgeProof, ShowProof)]
    engine = object.__new__(Engine)
    engine._waiting, engine._extent, engine._kernels = deque(waiting), "first", tmp_path
    engine._compiled_by = time.monotonic() + 600
    assert engine._able() == waiting[1:]
    engine._compiled_by = 0.0  # it cannot be waited for without end
    assert engine._able() == waiting
    engine._extent, engine._compiled_by = "first", time.monotonic() + 600
    (tmp_path / COMPLETE).write_text("")
    assert engine._able() == waiting
