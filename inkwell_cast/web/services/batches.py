"""Batches of the shelf: pieces baked for a receiver and handed off, one after the other."""

import pathlib
import threading
import time
from typing import TYPE_CHECKING

from ...core.base.errors import InputProblem
from ...core.handoff.batch import Outcome, Summary, in_batch, write_summary
from ...core.handoff.file_names import plain
from ...core.handoff.plan import refuse_unready
from ...core.settings.receivers import Receiver
from ...engine.remaining_time import RemainingTime
from ...engine.ticket import JobFailed
from ...store import batches
from ...store.batches import BatchRow
from ..local_paths import local_path

if TYPE_CHECKING:
    from .services import Services

LOOK_EVERY = 0.1


class Batches:
    """The batches of all pieces; one is at work at a time."""

    def __init__(self, services: "Services") -> None:
        self.services, self.store = services, services.store
        self._work: threading.Thread | None = None
        self._at: int | None = None  # the bake that is at work
        self._piece: int | None = None
        self._cancelled = False
        self._remaining, self._done, self._each = (
            RemainingTime(),
            0.0,
            1.0,
        )  # of the whole batch; what is done of it, and one piece
        with self.store.writing() as db:
            batches.end_all(db)

    def all(self) -> list[BatchRow]:
        with self.store.reading() as db:
            return batches.all_of(db)

    def start(self, piece_ids: list[int], receiver: Receiver, place: str) -> int:
        """Begin a batch into a folder of this machine. Raises InputProblem."""
        folder = local_path(place, "The folder", "/home/me/textures")
        if not piece_ids:
            raise InputProblem("The batch", "No piece is ticked.", "Tick those to bake.")
        if self._work and self._work.is_alive():
            raise InputProblem("The batch", "Another one is at work.", "Wait until it has ended, or cancel it.")
        named: dict[str, int] = {}
        for piece_id in piece_ids:
            name = self.services.pieces.wanted(piece_id)[0].name
            if named.setdefault(plain(name).casefold(), piece_id) != piece_id:
                raise InputProblem(name, "Two of the pieces have this name.", "Leave one of them out.")
        for piece_id in piece_ids:
            piece = self.services.pieces.wanted(piece_id)[0]
            recipe = receiver.laid_over(piece.recipe)
            handoff, target = in_batch(recipe.handoff, piece.name, folder)
            refuse_unready(handoff, piece.name, recipe, target, handoff.existing)
        waiting = [Outcome(piece=self.services.pieces.wanted(p)[0].name, state="waiting") for p in piece_ids]
        summary = Summary(receiver=receiver.name, outcomes=waiting)
        write_summary(folder, summary)
        with self.store.writing() as db:
            batch_id = batches.add(db, str(folder), summary)
        self._cancelled, self._remaining, self._done, self._each = False, RemainingTime(), 0.0, 1 / len(piece_ids)
        work = batch_id, piece_ids, receiver, folder, summary
        self._work = threading.Thread(target=self._run, args=work, name="batch", daemon=True)
        self._work.start()
        return batch_id

    def cancel(self) -> None:
        """Stop the batch at work; what is done stays."""
        self._cancelled = True
        if self._at is not None:
            self.services.bakes.cancel(self._at)
        if self._piece is not None:
            self.services.handoffs.cancel(self._piece)

    def forget(self, batch_id: int) -> None:
        with self.store.writing() as db:
            batches.delete(db, batch_id)

    def at_work(self) -> tuple[str, float, float | None]:
        """The stage of the bake at work, the share of the batch that is done, and seconds left if they can be told."""
        row = self.services.bakes.get(self._at) if self._at is not None else None
        share = self._done + self._each * (row.share if row else 0.0)
        self._remaining.heard(share)
        return row.stage if row else "", share, self._remaining.seconds_left()

    def _run(
        self, batch_id: int, piece_ids: list[int], receiver: Receiver, folder: pathlib.Path, summary: Summary
    ) -> None:
        message = ""
        try:
            for piece_id, waiting in zip(piece_ids, summary.outcomes, strict=True):
                if self._cancelled:
                    message = "Cancelled; what is done is kept."
                    break
                outcome = self._one(piece_id, waiting.piece, receiver, folder)
                summary = summary.with_outcome(outcome)
                self._at, self._done = None, self._done + self._each
                with self.store.writing() as db:
                    batches.tell(db, batch_id, summary)
                write_summary(folder, summary)
        except InputProblem as problem:
            message = str(problem)
        except Exception as error:
            message = f"Something went wrong inside the program ({error})."
        finally:
            self._at = self._piece = None
            with self.store.writing() as db:
                batches.end(db, batch_id, message)

    def _one(self, piece_id: int, name: str, receiver: Receiver, folder: pathlib.Path) -> Outcome:
        """Bake a piece as the receiver wants it and hand it off; its own settings stay as they are."""
        try:
            self._until_idle(piece_id)
            piece = self.services.pieces.wanted(piece_id)[0]
            bake_id = self.services.bakes.start(piece_id, False, recipe=receiver.laid_over(piece.recipe))
            self._at, self._piece = bake_id, piece_id
            row = self._ended(bake_id)
            if row.manifest is None:
                return Outcome(piece=name, state="failed", message=row.message or "The bake was deleted.")
            handed = self.services.handoffs.hand_off_batch(piece_id, bake_id, folder, receiver)
        except (InputProblem, JobFailed) as problem:
            return Outcome(piece=name, state="failed", message=str(problem))
        finished = self.services.handoffs.finished(piece_id, bake_id)[0]
        return Outcome.of(name, row.seconds or 0.0, finished, handed, folder)

    def _until_idle(self, piece_id: int) -> None:
        """Wait for a bake of the piece that is at work already."""
        while any(row.open for row in self.services.pieces.wanted(piece_id)[2][:1]) and not self._cancelled:
            time.sleep(LOOK_EVERY)

    def _ended(self, bake_id: int):  # type: ignore[no-untyped-def]
        while True:
            row = self.services.bakes.get(bake_id)
            if row is None:
                raise InputProblem("The bake", "It was deleted while it ran.", "Start the batch again.")
            if not row.open:
                return row
            time.sleep(LOOK_EVERY)
