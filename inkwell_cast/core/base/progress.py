"""How work says how far it is, and how it asks whether to go on: the types that every long call takes."""

from collections.abc import Callable

Progress = Callable[[str, float], None]  # hears the stage at work, and the share of the whole that is done, 0 to 1
ShareDone = Callable[[float], None]  # hears the share that is done of one piece of work, 0 to 1
Cancel = Callable[[], bool]  # a true answer ends the work with Cancelled, within 0.1 s


def part_of(progress: Progress, first: float, size: float) -> Progress:
    """What hears the share done of a part of some work, which begins at `first` and is `size` of it."""
    return lambda stage, share: progress(stage, first + size * share)
