"""What goes through the pipe between the server and a process: a job asked for, and what became of it."""

from dataclasses import dataclass, field
from typing import Any

from .messages import Job


@dataclass(frozen=True, slots=True)
class Asked:
    """A job with its number; whatever the process says of it bears that number."""

    number: int
    job: Job


@dataclass(frozen=True, slots=True)
class Told:
    """Progress: the stage and the share of the whole, 0 to 1; number 0 is said before the first job."""

    number: int
    stage: str
    share: float


@dataclass(frozen=True, slots=True)
class Partly:
    """What there is of a job's result while the rest is still worked on: the maps of a bake that is being judged."""

    number: int
    result: Any


@dataclass(frozen=True, slots=True)
class Done:
    number: int
    result: Any


@dataclass(frozen=True, slots=True)
class Failed:
    """`kind` is "input" for something the user can mend, "cancelled", "memory" or "fault"."""

    number: int
    kind: str
    message: str
    detail: str = field(default="")
