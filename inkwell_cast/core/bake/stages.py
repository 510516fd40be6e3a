"""The stages of a bake: how far it is, and how many seconds each took."""

import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from ..base.errors import Cancelled
from ..base.progress import Cancel, Progress, ShareDone

# share of the whole that each stage takes at the defaults, for the remaining time
STAGES = {"checking": 0.02, "scene": 0.1, "preparing": 0.08, "casting": 0.6, "maps": 0.2}


SAVING = {"writing": 0.15, "rounding": 0.15, "likeness": 0.4, "coverage": 0.1, "flaws": 0.2}  # of what comes after


@contextmanager
def timed(seconds: dict[str, float], name: str) -> Iterator[None]:
    """Keep the seconds that a block takes under a name."""
    started = time.perf_counter()
    yield
    seconds[name] = round(time.perf_counter() - started, 4)


@dataclass(slots=True)
class Stages:
    """Tells the progress of a bake, or of its saving, stage by stage.

    `progress(stage, share)` hears the stage at work and the share of the whole that is done; `cancelled()` is asked
    each time. `seconds` are those of the stages that are over.
    """

    progress: Progress
    cancelled: Cancel
    seconds: dict[str, float] = field(default_factory=dict)
    done: float = 0.0
    shares: dict[str, float] = field(default_factory=lambda: STAGES)

    @contextmanager
    def stage(self, name: str) -> Iterator[None]:
        """Work that is one of the stages."""
        self.tell(name, 0.0)
        with timed(self.seconds, name):
            yield
        self.done += self.shares[name]

    def expect(self, shares: dict[str, float]) -> None:
        """Take other shares for the stages that follow, so that all of them still make up the whole."""
        follow = [name for name in self.shares if name not in self.seconds]
        left = (1 - self.done) / sum(shares[name] for name in follow)
        self.shares = self.shares | {name: shares[name] * left for name in follow}

    def tell(self, words: str, share: float) -> None:
        """A share of the stage at work is done; its name comes first in `words`. Raises Cancelled."""
        if self.cancelled():
            raise Cancelled
        self.say(words, share)

    def say(self, words: str, share: float) -> None:
        """Tell of a share of the stage at work without asking whether to go on."""
        self.progress(words, self.done + self.shares[words.partition(" ")[0]] * share)

    def part_of(self, name: str, first: float, size: float) -> ShareDone:
        """What hears the share done of a part of a stage, which begins at `first` and is `size` of it."""
        return lambda share: self.tell(name, first + share * size)
