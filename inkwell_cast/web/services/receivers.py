"""Receivers: the ready ones and the user's own."""

from typing import TYPE_CHECKING

from ...core.base.errors import InputProblem
from ...core.settings.receivers import READY, Receiver
from ...core.settings.recipe import Recipe
from ...store import receivers

if TYPE_CHECKING:
    from .services import Services


class Receivers:
    """All receivers that can be chosen."""

    def __init__(self, services: "Services") -> None:
        self.store = services.store

    def all(self) -> list[Receiver]:
        """The ready ones, then the user's own."""
        return [*READY, *self.own()]

    def own(self) -> list[Receiver]:
        with self.store.reading() as db:
            return receivers.all_of(db)

    def find(self, name: str) -> Receiver:
        receiver = next((each for each in self.all() if each.name.lower() == name.lower()), None)
        if receiver is None:
            raise InputProblem(name or "The receiver", "There is no such receiver.", "Choose one of the list.")
        return receiver

    def of(self, recipe: Recipe) -> Receiver | None:
        """The receiver that a piece is set for, if there is one."""
        return next((receiver for receiver in self.all() if receiver.fits(recipe)), None)

    def keep(self, receiver: Receiver) -> None:
        """Keep a receiver of the user's own. Raises InputProblem for the name of a ready one."""
        if any(ready.name.lower() == receiver.name.lower() for ready in READY):
            raise InputProblem(receiver.name, "A ready receiver is called this.", "Choose another name.")
        with self.store.writing() as db:
            receivers.put(db, receiver)

    def forget(self, name: str) -> None:
        with self.store.writing() as db:
            if not receivers.delete(db, name):
                raise InputProblem(name, "You have no receiver of this name.", "Reload the page.")
