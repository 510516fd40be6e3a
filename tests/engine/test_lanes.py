import contextlib
import os
import threading
from types import SimpleNamespace

import pytest

from inkwell_cast.core.settings.recipe import Recipe
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
        (CheckPiece(PLAIN, []), "reading"),
        (BakeInto(PLAIN, [], ""), "long"),
        (BakeInto(PLAIN, [], "", mend=True), "long"),
        (TryFit(PLAIN, []), "long"),
    ],
    ids=lambda value: type(value).__name__ if not isinstance(value, str) else value,
)
def test_each_job_goes_to_its_lane(job, lane):
    asked = []
    lanes = Lanes.__new__(Lanes)  # without starting a process
    lanes.hand, lanes.reading, lanes.long = (
        SimpleNamespace(submit=lambda *given, name=name: asked.append(name)) for name in ("hand", "reading", "long")
    )
    lanes.submit(job)
    assert asked == [lane]


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
        hand, reading, long = lanes.process_ids
        niceness = [os.getpriority(os.PRIO_PROCESS, process) for process in (hand, reading, long)]
        assert niceness == sorted(niceness)
        assert niceness[0] < niceness[1] < niceness[2]
