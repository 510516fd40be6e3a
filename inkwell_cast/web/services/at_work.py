"""What is at work and what waits, in words, and stopping it."""

import time
from dataclasses import dataclass
from typing import TYPE_CHECKING

from ...core.base.errors import InputProblem
from ...engine.messages import (
    BakeInto,
    BringIn,
    CheckPiece,
    ConvertMap,
    Cover,
    Draw,
    DrawNear,
    Export,
    HandOff,
    Job,
    JudgeProof,
    Load,
    LoadPacked,
    MeasureReach,
    Mix,
    RunItem,
    ShowProof,
    TryFit,
)
from ...engine.ticket import State, Ticket

if TYPE_CHECKING:
    from .services import Services

COMPILING = "Kernels"
SHORT = 0.4  # seconds: what is over sooner is not worth a line
NAMES: dict[type, str] = {
    ShowProof: "Live proof",
    JudgeProof: "Live proof",
    MeasureReach: "Measure",
    TryFit: "Fit",
    Cover: "Coverage",
    RunItem: "Batch",
    CheckPiece: "Checks",
    Draw: "Drawing",
    DrawNear: "Drawing",
    Export: "Export",
    ConvertMap: "Conversion",
    Mix: "Mix",
    HandOff: "Handoff",
    BringIn: "Judging a map",
    LoadPacked: "Opening a piece file",
}


@dataclass(frozen=True, slots=True)
class AtWork:
    """A job: its name, the piece that it is for if it is for one, its stage, and seconds since it began and left.

    `seconds` is None while it waits, then `behind` says for what; `left` is None where nothing can be told.
    """

    number: int
    name: str
    piece_id: int | None
    piece: str
    stage: str
    share: float
    seconds: float | None
    left: float | None
    behind: str = ""


class Work:
    """The jobs of all lanes."""

    def __init__(self, services: "Services") -> None:
        self.services = services

    def listed(self) -> list[AtWork]:
        """What is at work for longer than a moment, and what waits, the oldest first."""
        now, jobs = time.monotonic(), self._compiling()
        for ticket in sorted(self.services.engine.tickets, key=lambda ticket: ticket.number):
            seconds = None if ticket.began is None else now - ticket.began
            if ticket.job.QUICK or (seconds is not None and seconds < SHORT):
                continue
            left = ticket.remaining.seconds_left() if seconds is not None else None
            name, piece, told = called(ticket.job), self._piece_of(ticket), ticket.told
            behind = self._behind(ticket) if seconds is None else ""
            row = AtWork(ticket.number, name, ticket.piece_id, piece, told.stage, told.share, seconds, left, behind)
            jobs.append(row)
        return jobs

    def _compiling(self) -> list[AtWork]:
        """What is compiled, once on a machine, before the first job of an engine; it cannot be stopped."""
        shares = [engine.compiling for engine in self.services.engine.all]
        return [AtWork(0, COMPILING, None, "", "compiling", share, 0.0, None) for share in shares if share is not None]

    def _piece_of(self, ticket: Ticket) -> str:
        known = self.services.pieces.get(ticket.piece_id, 0) if ticket.piece_id else None
        return known[0].name if known else ""

    def _behind(self, ticket: Ticket) -> str:
        """What the engine of a job that waits does meanwhile, and for which piece; "" where it does nothing else."""
        for other in ticket.engine.tickets:
            if other.state is State.AT_WORK and not other.job.QUICK:
                return " of ".join(word for word in (called(other.job), self._piece_of(other)) if word)
        return ""

    def stop(self, number: int) -> None:
        """Stop a job. Raises InputProblem for one that is over."""
        self._ticket(number).stop()

    def _ticket(self, number: int) -> Ticket:
        for ticket in self.services.engine.tickets:
            if ticket.number == number:
                return ticket
        raise InputProblem("The work", "It has ended already.", "Look at what it left.")


def called(job: Job) -> str:
    """What a job is called in a list."""
    if isinstance(job, Load):
        return f"Reading {job.name}"
    if isinstance(job, BakeInto):
        return "Mend all" if job.mend else "Proof" if job.proof else "Full bake"
    return NAMES[type(job)]
