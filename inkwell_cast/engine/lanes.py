"""Four engines side by side, so that what the hand waits for never waits for what takes long.

One follows the hand: it probes, measures and makes proofs. One does long work: full bakes, fitting, mending all,
batches. One reads and draws files, one checks them, so that a small file never waits for the checks of a large one.
Each keeps its own scenes warm and watches its own memory; meshes are mapped from the store, so the system holds them
once for all. Long work and checks take what the others leave of the processor. On a machine where nothing is compiled
yet the hand compiles what a first picture needs, and then that of long work the rest.
"""

from collections.abc import Callable
from typing import Any

from ..core.base.progress import Progress
from .engine import Engine
from .messages import Job
from .priority import Lane
from .ticket import Ticket

PATIENT, CHECKS, READING = 10, 8, 4  # niceness


class Lanes:
    """The engines of a server; takes jobs as one engine does, and gives each to its lane."""

    def __init__(self, cluster: str = "") -> None:
        """Full bakes are traced by the workers of the `cluster` whose scheduler is at an address."""
        self.hand = Engine("hand", extent="first")
        self.reading = Engine("reading", READING, self.hand, extent="none")
        self.long = Engine("long work", PATIENT, self.reading, cluster)
        self.checks = Engine("checks", CHECKS, self.hand, when_asked=True, extent="none")

    @property
    def all(self) -> tuple[Engine, ...]:
        return self.hand, self.reading, self.long, self.checks

    def submit(
        self,
        job: Job,
        on_progress: Progress = lambda stage, share: None,
        on_start: Callable[[], None] = lambda: None,
        piece_id: int | None = None,
        on_part: Callable[[Any], None] = lambda part: None,
    ) -> Ticket:
        """Hand a job to its lane; see `Engine.submit`."""
        every = {Lane.HAND: self.hand, Lane.READING: self.reading, Lane.LONG: self.long, Lane.CHECKS: self.checks}
        return every[job.lane].submit(job, on_progress, on_start, piece_id, on_part)

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
