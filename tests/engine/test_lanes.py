import contextlib
import os
import signal
import threading
from types import SimpleNamespace

import pytest

from inkwell_cast.core.formats import write_mesh
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.engine import messages
from inkwell_cast.engine.lanes import Lanes
from inkwell_cast.engine.messages import (
    BakeInto,
    CheckPiece,
    Cover,
    Draw,
    JudgeProof,
    Load,
    MeasureReach,
    ProbeAt,
    ShowProof,
    TryFit,
)

from ..shapes import torus
from .test_engine import LONG, SHORT, sources, wait

__all__ = ["sources"]
PLAIN = Recipe()


@pytest.mark.parametrize(
    ("job", "lane"),
    [
        (ProbeAt(PLAIN, [], "", 0, 0), "hand"),
        (Cover(PLAIN, [], "piece"), "hand"),
        (ShowProof(PLAIN, [], "normal"), "hand"),
        (JudgeProof(PLAIN, [], "normal"), "hand"),
        (MeasureReach(PLAIN, [], "piece"), "hand"),
        (BakeInto(PLAIN, [], "", proof=True), "hand"),
        (Draw(PLAIN, [], "low", ""), "hand"),
        (Draw(PLAIN, [], "sculpt", ""), "reading"),
        (Load("", "", ""), "reading"),
        (CheckPiece(PLAIN, []), "checks"),
        (BakeInto(PLAIN, [], ""), "long"),
        (BakeInto(PLAIN, [], "", mend=True), "long"),
        (TryFit(PLAIN, []), "long"),
    ],
    ids=lambda value: type(value).__name__ if not isinstance(value, str) else value,
)
def test_each_job_goes_to_its_lane(job, lane):
    asked = []
    lanes = Lanes.__new__(Lanes)  # without starting a process
    for name in ("hand", "reading", "long", "checks"):
        setattr(lanes, name, SimpleNamespace(submit=lambda *given, name=name: asked.append(name)))
    lanes.submit(job)
    assert asked == [lane]


@pytest.mark.deep
def test_a_long_bake_delays_neither_the_pointer_nor_a_file(sources, tmp_path):
    """While it is at work, what the others are asked for ends; and it leaves them the processor."""
    with contextlib.closing(Lanes()) as lanes:
        at_work = threading.Event()
        bake = lanes.submit(
            BakeInto(LONG, sources, str(tmp_path)),
            lambda stage, share: at_work.set() if stage.startswith("casting") else None,
        )
        assert at_work.wait(300)
        assert wait(lanes.submit(ProbeAt(SHORT, sources, "", 10, 20))).hit_object == "ring_high"
        assert wait(lanes.submit(CheckPiece(SHORT, sources))) == []
        assert not bake.future.done()
        assert [ticket.job for ticket in lanes.tickets] == [bake.job]
        hand, reading, long, checks = lanes.process_ids
        niceness = [os.getpriority(os.PRIO_PROCESS, process) for process in (hand, reading, checks, long)]
        assert niceness == sorted(set(niceness))


def test_a_file_is_read_while_a_large_piece_is_checked_and_a_small_one_is_checked_first(sources, tmp_path, monkeypatch):
    """The checks of the large one are at work, stopped in their midst from outside; they end all the same."""
    write_mesh(tmp_path / "ring_low.obj", torus(16, 8, name="ring_low.obj"))
    with contextlib.closing(Lanes()) as lanes:
        assert lanes.checks.process_id is None  # it starts when it is asked
        wait(lanes.submit(CheckPiece(SHORT, sources)))
        os.kill(lanes.checks.process_id, signal.SIGSTOP)
        checks = lanes.submit(CheckPiece(SHORT, sources))
        load = lanes.submit(Load(str(tmp_path / "ring_low.obj"), "ring_low.obj", str(tmp_path / "copy")))
        assert wait(load, 60).triangles == 256
        assert not checks.future.done()
        os.kill(lanes.checks.process_id, signal.SIGCONT)
        assert wait(checks) == []
    small = CheckPiece(SHORT, sources).rank
    monkeypatch.setattr(messages, "LARGE", 1000)
    assert small < CheckPiece(SHORT, sources).rank
