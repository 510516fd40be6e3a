"""Handoffs of bakes: into folders and archives of this machine, or to be fetched."""

import datetime
import pathlib
import secrets
import shutil
import threading
from collections import OrderedDict
from typing import TYPE_CHECKING

from ...core.base.errors import InputProblem
from ...core.handoff.bake_on_disk import Finished
from ...core.handoff.batch import in_batch
from ...core.handoff.file_names import plain
from ...core.handoff.hand_off import Handed
from ...core.handoff.plan import Planned, coming, is_shared, plan, refuse_place
from ...core.handoff.shared_folder import Change, changes
from ...core.settings.handoff import Handoff
from ...core.settings.receivers import Receiver
from ...engine.messages import HandOff
from ...engine.ticket import Ticket
from ...store import handoffs
from ...store.bakes import BakeRecord
from ...store.handoffs import HandoffRow
from ..cache_keys import meshes_key
from ..local_paths import local_path

if TYPE_CHECKING:
    from .services import Services

KEPT_ARCHIVES = 4


class Handoffs:
    """The handoffs of all pieces."""

    def __init__(self, services: "Services") -> None:
        self.services, self.store = services, services.store
        self._archives: OrderedDict[str, pathlib.Path] = OrderedDict()
        self._tickets: dict[int, list[Ticket]] = {}  # of pieces, those at work
        self._lock = threading.Lock()

    def finished(self, piece_id: int, bake_id: int) -> tuple[Finished, BakeRecord]:
        """A bake of a piece for handing off. Raises InputProblem for one that is gone, or of other meshes."""
        piece, rows, _ = self.services.pieces.wanted(piece_id)
        row = self.services.bakes.get(bake_id)
        if row is None or row.piece_id != piece_id or row.manifest is None:
            raise InputProblem(piece.name, "This bake has no result.", "Bake first.")
        if row.manifest.brought:
            raise InputProblem(piece.name, "This map was made elsewhere.", "Show a bake of the piece, or bake first.")
        if row.meshes != meshes_key(rows):
            raise InputProblem(piece.name, "Its meshes changed since this bake; they would not fit.", "Bake again.")
        kept = self.services.bakes
        return Finished.of_pictures(piece.name, row.manifest, lambda sheet, key: kept.picture(bake_id, sheet, key)), row

    def hand_off(self, piece_id: int, bake_id: int, place: str, existing: str = "") -> Handed:
        """Write a handoff to a folder or a .zip of this machine; `existing` wins over the piece's setting."""
        target, handoff = _target(place), self._handoff(piece_id, existing)
        finished, _ = self.finished(piece_id, bake_id)
        refuse_place(handoff, finished.piece, target, _planned(finished, handoff))
        handed, receiver = self._write(piece_id, bake_id, handoff, target)
        with self.store.writing() as db:
            handoffs.add(db, piece_id, bake_id, str(handed.path), receiver, len(handed.manifest.files) + 1)
        return handed

    def coming(self, piece_id: int, bake_id: int, place: str) -> list[Change]:
        """What a handoff would do to the files of a folder that others use; nothing for one of its own."""
        target, handoff = _target(place), self._handoff(piece_id, "")
        if not is_shared(handoff, target):
            return []
        finished, _ = self.finished(piece_id, bake_id)
        planned = _planned(finished, handoff)
        made = coming(planned, handoff, finished.piece, target)
        for file in planned:  # what is packed or cut anew is not made yet
            entry = finished.map(file.sheet, file.key) if file.key else None
            made[file.name] = entry.sha256 if entry else ""
        return changes(target, finished.piece, made)

    def archive(self, piece_id: int, bake_id: int) -> str:
        """Make a handoff as an archive to be fetched; gives its token."""
        folder = self.store.files.temporary_folder()
        try:
            target = folder / f"{plain(self.services.pieces.wanted(piece_id)[0].name)}.zip"
            handed, _ = self._write(piece_id, bake_id, self._handoff(piece_id, ""), target)
        except BaseException:
            shutil.rmtree(folder, ignore_errors=True)
            raise
        token = secrets.token_urlsafe(12)
        self._archives[token] = handed.path
        while len(self._archives) > KEPT_ARCHIVES:
            shutil.rmtree(self._archives.popitem(last=False)[1].parent, ignore_errors=True)
        return token

    def archived(self, token: str) -> pathlib.Path | None:
        return self._archives.get(token)

    def cancel(self, piece_id: int) -> None:
        """Give up the handoffs of a piece that are at work."""
        with self._lock:
            tickets = [*self._tickets.get(piece_id, [])]
        for ticket in tickets:
            ticket.stop()

    def past(self, piece_id: int) -> list[HandoffRow]:
        with self.store.reading() as db:
            return handoffs.of_piece(db, piece_id)

    def hand_off_batch(self, piece_id: int, bake_id: int, out: pathlib.Path, receiver: Receiver) -> Handed:
        """Hand off a bake of a batch into its folder, as its receiver wants it."""
        handoff, target = in_batch(receiver.handoff, self.services.pieces.wanted(piece_id)[0].name, out)
        handed, _ = self._write(piece_id, bake_id, handoff, target, receiver.name)
        return handed

    def _handoff(self, piece_id: int, existing: str) -> Handoff:
        settings = self.services.pieces.wanted(piece_id)[0].recipe.handoff
        return Handoff.model_validate(settings.model_dump() | ({"existing": existing} if existing else {}))

    def _write(
        self, piece_id: int, bake_id: int, handoff: Handoff, target: pathlib.Path, receiver: str = ""
    ) -> tuple[Handed, str]:
        finished, row = self.finished(piece_id, bake_id)
        fits = self.services.receivers.of(row.recipe.model_copy(update={"handoff": handoff}))
        receiver = receiver or (fits.name if fits else "")
        sources = self.services.pieces.sources(self.services.pieces.wanted(piece_id)[1])
        job = HandOff(row.recipe, sources, finished, handoff, str(target), receiver)
        ticket = self.services.engine.submit(job, piece_id=piece_id)
        with self._lock:
            self._tickets.setdefault(piece_id, []).append(ticket)
        try:
            handed: Handed = ticket.future.result()
        finally:
            with self._lock:
                self._tickets[piece_id].remove(ticket)
        return handed, receiver


def _target(place: str) -> pathlib.Path:
    return local_path(place, "The folder", "/home/me/textures/lamp")


def _planned(finished: Finished, handoff: Handoff) -> list[Planned]:
    told = finished.manifest
    return plan(handoff, finished.piece, told.recipe, told.sheets, told.maps, datetime.date.today())
