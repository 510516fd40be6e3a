"""How long a job still takes, told from what it did lately."""

import time
from collections import deque
from dataclasses import dataclass, field

ENOUGH = 0.03  # of the whole: before that much is done nothing can be told
LATELY, AT_LEAST = 0.3, 2.0  # of the time spent, and seconds, over which the pace is taken
KEPT = 400
RISES, CALM = 4 / 3, 2.0  # times the least that was told in so many seconds before: it does not jump


@dataclass(slots=True)
class RemainingTime:
    """The shares of a job that were done, and when.

    Its pace is that of the last stretch up to now, so an estimate grows while nothing gets done, and a stage that goes
    otherwise than the one before is noticed.
    """

    began: float = field(default_factory=time.monotonic)
    points: deque[tuple[float, float]] = field(default_factory=lambda: deque(maxlen=KEPT))
    told: deque[tuple[float, float]] = field(default_factory=lambda: deque(maxlen=KEPT))

    def heard(self, share: float, now: float | None = None) -> None:
        """A share of the whole (0 to 1) is done, at a time of `time.monotonic`."""
        now = time.monotonic() if now is None else now
        if not self.points:
            self.points.append((self.began, 0.0))
        if share > self.points[-1][1]:
            self.points.append((now, share))

    def seconds_left(self, now: float | None = None) -> float | None:
        """Seconds until all is done; None too early, or where nothing was done lately.

        What is told rises by no more than a third within `CALM` seconds, however the pace changes.
        """
        now = time.monotonic() if now is None else now
        left = self._at_this_pace(now)
        if left is None:
            return None
        while len(self.told) > 1 and self.told[0][0] < now - CALM:
            self.told.popleft()
        left = min(left, RISES * min((seconds for _, seconds in self.told), default=left))
        self.told.append((now, left))
        return left

    def _at_this_pace(self, now: float) -> float | None:
        if not self.points or self.points[-1][1] < ENOUGH:
            return None
        share, since = self.points[-1][1], now - max(AT_LEAST, LATELY * (now - self.began))
        first = next((point for point in reversed(self.points) if point[0] <= since), self.points[0])
        spent, done = now - first[0], share - first[1]
        return (1 - share) * spent / done if done > 0 and spent > 0 else None
