"""Three engines side by side, so that what the hand waits for never waits for what takes long.

One follows the hand: it probes, measures and makes proofs. One does long work: full bakes, fitting, mending all,
batches. One reads, checks and draws files. Each keeps its own scenes warm and watches its own memory; meshes are mapped
from the store, so the system holds them once for all three. Long work takes what the others leave of the processor.
"""

from collections.abc import Callable

from .engine import Engine, Ticket
from .messages import (
    BakeInto,
    Cover,
    Draw,
    Job,
    JudgeProof,
    MeasureReach,
    ProbeAt,
    RunItem,
    SectionAt,
    ShowProof,
    TryFit,
)

HAND = (ProbeAt, SectionAt, Cover, ShowProof, JudgeProof, MeasureReach)
LONG = (RunItem, TryFit)
DRAWN_AT_HAND = ("low", "cage")  # of the proof's own low, which lies warm there
PATIENT, READING = 10, 4  # niceness


class Lanes:
    """The engines of a server; takes jobs as one engine does, and gives each to its lane."""

    def __init__(self, cluster: str = "") -> None:
        """Full bakes are traced by the workers of the `cluster` whose scheduler is at an address."""
        self.hand = Engine("hand")
        self.reading = Engine("reading", READING, self.hand)
        self.long = Engine("long work", PATIENT, self.reading, cluster)

    @property
    def all(self) -> tuple[Engine, Engine, Engine]:
        return self.hand, self.reading, self.long

    def submit(
        self,
        job: Job,
        on_progress: Callable[[str, float], None] = lambda stage, share: None,
        on_start: Callable[[], None] = lambda: None,
        piece_id: int | None = None,
    ) -> Ticket:
        """Hand a job to its lane; see `Engine.submit`."""
        return self._lane(job).submit(job, on_progress, on_start, piece_id)

    def _lane(self, job: Job) -> Engine:
        if isinstance(job, HAND) or (isinstance(job, Draw) and job.what in DRAWN_AT_HAND):
            return self.hand
        if isinstance(job, BakeInto):
            return self.hand if job.proof else self.long
        return self.long if isinstance(job, LONG) else self.reading

    @property
    def tickets(self) -> list[Ticket]:
        """What is at work and what waits, lane after lane."""
        return [ticket for engine in self.all for ticket in engine.tickets]

    @property
    def process_ids(self) -> list[int | None]:
        return [engine.process_id for engine in self.all]

    def close(self) -> None:
        """End the processes, and whatever they are doing."""
        for engine in self.all:
            engine.close()
