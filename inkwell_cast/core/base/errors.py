"""Errors that an artist can act on: what is wrong, where, and what to do."""

from dataclasses import dataclass


@dataclass
class InputProblem(Exception):
    """Something a user gave cannot be used as it is.

    `where` names the file, `part` the object in it (empty if it concerns the whole file), `what` the fault with
    its value, `remedy` what to do about it.
    """

    where: str
    what: str
    remedy: str
    part: str = ""

    def __str__(self) -> str:
        place = f"{self.where}, {self.part}" if self.part else self.where
        return f"{place}: {self.what} {self.remedy}"

    def __reduce__(self) -> tuple[type["InputProblem"], tuple[str, str, str, str]]:
        return InputProblem, (self.where, self.what, self.remedy, self.part)


class Cancelled(Exception):
    """The user asked for the work to stop."""


class RayLibraryMissing(Exception):
    """The ray library could not be loaded; the message says how to get it."""
