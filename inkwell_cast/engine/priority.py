"""Where a job is done, how long it may wait, and what must be ready before."""

import enum
from typing import Literal

Extent = Literal["first", "all", "none"]  # what a process compiles before its first job, where nothing is yet


class Lane(enum.Enum):
    """Which of four engines side by side does a job."""

    HAND = "hand"  # what follows the hand
    READING = "reading"  # reads and draws files
    CHECKS = "checks"  # checks meshes, which may take as long as a mesh is large
    LONG = "long work"  # what takes long


class Rank(enum.IntEnum):
    """How long a job may wait: the lowest of those that wait is the next."""

    FIRST, SECOND, LAST = range(3)
