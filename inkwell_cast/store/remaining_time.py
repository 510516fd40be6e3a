"""The remaining time of a bake, told from how long its first part took."""

import time

ENOUGH = 0.1  # of the whole: before that much is done nothing can be told


def seconds_left(started: float | None, share: float) -> float | None:
    """Seconds until all is done, from when it started (seconds since 1970) and the share done; None too early."""
    if not started or share < ENOUGH:
        return None
    return (time.time() - started) * (1 - share) / share
