"""Where things leave and come in whole: handoffs, receivers, piece files."""

import asyncio
import pathlib
import secrets
import shutil
from collections import OrderedDict
from collections.abc import AsyncIterator
from dataclasses import asdict
from typing import TYPE_CHECKING

from ..core.base.errors import InputProblem
from ..core.handoff.bake_on_disk import Finished
from ..core.handoff.file_names import plain
from ..core.handoff.hand_off import Handed
from ..core.handoff.piece_file import BakeEntry, MeshEntry, PictureEntry, PieceFile, unpack_piece, write_piece
from ..core.handoff.whole_or_nothing import refuse_taken
from ..core.settings.handoff import Handoff
from ..core.settings.receivers import READY, Receiver
from ..core.settings.recipe import Recipe
from ..engine.engine import Ticket
from ..engine.messages import HandOff, Loaded, LoadPacked
from ..store import bakes, handoffs, meshes, pieces, receivers
from ..store.bakes import BakeRecord
from ..store.handoffs import HandoffRow
from ..store.meshes import Facts
from .intake import safe_name, too_large
from .outline import meshes_key
from .places import local_path

if TYPE_CHECKING:
    from .workshop import Workshop

KEPT_ARCHIVES = 4


class Counter:
    """What a workshop hands out and takes in as a whole."""

    def __init__(self, shop: "Workshop") -> None:
        self.shop, self.store = shop, shop.store
        self._archives: OrderedDict[str, pathlib.Path] = OrderedDict()
        self._tickets: dict[int, Ticket] = {}

    # receivers

    def receivers(self) -> list[Receiver]:
        """The ready ones, then the user's own."""
        return [*READY, *self.own_receivers()]

    def own_receivers(self) -> list[Receiver]:
        with self.store.reading() as db:
            return receivers.all_of(db)

    def receiver(self, name: str) -> Receiver:
        found = next((own for own in self.receivers() if own.name.lower() == name.lower()), None)
        if found is None:
            raise InputProblem(name or "The receiver", "There is no such receiver.", "Choose one of the list.")
        return found

    def receiver_of(self, recipe: Recipe) -> Receiver | None:
        """The receiver that a piece is set for, if there is one."""
        return next((own for own in self.receivers() if own.fits(recipe)), None)

    def keep_receiver(self, receiver: Receiver) -> None:
        """Keep a receiver of the user's own. Raises InputProblem for the name of a ready one."""
        if any(own.name.lower() == receiver.name.lower() for own in READY):
            raise InputProblem(receiver.name, "A ready receiver is called this.", "Choose another name.")
        with self.store.writing() as db:
            receivers.put(db, receiver)

    def forget_receiver(self, name: str) -> None:
        with self.store.writing() as db:
            if not receivers.delete(db, name):
                raise InputProblem(name, "You have no receiver of this name.", "Reload the page.")

    # handoffs

    def finished(self, piece_id: int, bake_id: int) -> tuple[Finished, BakeRecord]:
        """A bake of a piece for handing off. Raises InputProblem for one that is gone, or of other meshes."""
        piece, rows, _ = self.shop.wanted(piece_id)
        row = self.shop.bake(bake_id)
        if row is None or row.piece_id != piece_id or row.manifest is None:
            raise InputProblem(piece.name, "This bake has no result.", "Bake first.")
        if row.meshes != meshes_key(rows):
            raise InputProblem(piece.name, "Its meshes changed since this bake; they would not fit.", "Bake again.")
        files, shown = {}, {}
        for made in row.manifest.maps:
            key = made.sheet, made.key
            picture, file = (self.shop.picture(row.id, made.sheet, name) for name in (made.key, f"{made.key}.file"))
            if picture is None or not picture.is_file():
                raise InputProblem(piece.name, f"The {made.label.lower()} of this bake is gone.", "Bake again.")
            files[key], shown[key] = file or picture, picture
        return Finished(piece.name, row.manifest, files, shown), row

    async def hand_off(self, piece_id: int, bake_id: int, place: str, existing: str = "") -> Handed:
        """Write a handoff to a folder or a .zip of this machine; `existing` wins over the piece's setting."""
        target = local_path(place, "The folder", "/home/me/textures/lamp")
        handoff = self._handoff(piece_id, existing)
        refuse_taken(target, handoff.existing)
        handed, receiver = await self._write(piece_id, bake_id, handoff, target)
        with self.store.writing() as db:
            handoffs.add(db, piece_id, bake_id, str(handed.path), receiver, len(handed.manifest.files) + 1)
        return handed

    async def archive(self, piece_id: int, bake_id: int) -> str:
        """Make a handoff as an archive to be fetched; gives its token."""
        folder = self.store.files.temporary_folder()
        try:
            target = folder / f"{plain(self.shop.wanted(piece_id)[0].name)}.zip"
            handed, _ = await self._write(piece_id, bake_id, self._handoff(piece_id, ""), target)
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
        """Give up a handoff that is at work."""
        ticket = self._tickets.get(piece_id)
        if ticket:
            ticket.stop()

    def past(self, piece_id: int) -> list[HandoffRow]:
        with self.store.reading() as db:
            return handoffs.of_piece(db, piece_id)

    def _handoff(self, piece_id: int, existing: str) -> Handoff:
        own = self.shop.wanted(piece_id)[0].recipe.handoff
        return Handoff.model_validate(own.model_dump() | ({"existing": existing} if existing else {}))

    async def _write(
        self, piece_id: int, bake_id: int, handoff: Handoff, target: pathlib.Path, receiver: str = ""
    ) -> tuple[Handed, str]:
        finished, row = self.finished(piece_id, bake_id)
        fits = self.receiver_of(row.recipe.model_copy(update={"handoff": handoff}))
        receiver = receiver or (fits.name if fits else "")
        sources = self.shop.sources(self.shop.wanted(piece_id)[1])
        ticket = self.shop.engine.submit(HandOff(row.recipe, sources, finished, handoff, str(target), receiver))
        self._tickets[piece_id] = ticket
        try:
            handed: Handed = await asyncio.wrap_future(ticket.future)
        except asyncio.CancelledError:
            ticket.stop()
            raise
        finally:
            self._tickets.pop(piece_id, None)
        return handed, receiver

    async def hand_off_batch(self, piece_id: int, bake_id: int, target: pathlib.Path, receiver: Receiver) -> Handed:
        """Hand off a bake of a batch as its receiver wants it, in place of an earlier handoff."""
        handoff = receiver.handoff.model_copy(update={"existing": "replace"})
        handed, _ = await self._write(piece_id, bake_id, handoff, target, receiver.name)
        return handed

    # piece files

    def save_piece(self, piece_id: int) -> pathlib.Path:
        """A piece with all its bakes as one file, in a folder of its own that the caller removes."""
        found = self.shop.piece(piece_id, -1)
        if found is None:
            raise InputProblem("The piece", "It is no longer on the shelf.", "Go back to the shelf.")
        piece, rows, there = found
        entries = []
        for light in there:
            row = self.shop.bake(light.id)
            if row is None or row.manifest is None:
                continue
            with self.store.reading() as db:
                pictures = bakes.pictures_of(db, row.id)
            entries.append(
                BakeEntry(
                    name=row.name, proof=row.proof, created=row.created, started=row.started, ended=row.ended,
                    manifest=row.manifest, current=row.meshes == meshes_key(rows),
                    pictures=[PictureEntry(sheet=s, key=k, sha256=h) for (s, k), h in sorted(pictures.items())],
                )
            )  # fmt: skip
        given = [MeshEntry(file=row.file_name, sha256=row.sha256, copy=row.copy) for row in rows]
        contents = PieceFile(name=piece.name, recipe=piece.recipe, meshes=given, bakes=entries)
        path = self.store.files.temporary_folder() / f"{plain(piece.name)}.icast"
        try:
            write_piece(path, contents, self.store.files.path)
        except OSError as error:
            shutil.rmtree(path.parent, ignore_errors=True)
            raise InputProblem(piece.name, f"It cannot be saved ({error.strerror}).", "Free some space.") from error
        return path

    async def open_piece(self, name: str, chunks: AsyncIterator[bytes]) -> int:
        """Put a piece file on the shelf; all of it or nothing. Raises InputProblem."""
        name = safe_name(name)
        folder = self.store.files.temporary_folder()
        try:
            path, inner = folder / "given", folder / "files"
            inner.mkdir()
            size = 0
            with path.open("wb") as file:
                async for chunk in chunks:
                    size += len(chunk)
                    if size > self.shop.intake.max_upload:
                        raise too_large(name, self.shop.intake.max_upload)
                    await asyncio.to_thread(file.write, chunk)
            piece = await asyncio.to_thread(unpack_piece, path, inner, name)
            path.unlink()
            facts = {}
            for mesh in piece.meshes:
                job = LoadPacked(str(inner / mesh.copy_), mesh.file)
                loaded: Loaded = await asyncio.wrap_future(self.shop.engine.submit(job).future)
                facts[mesh.file] = Facts.model_validate(asdict(loaded))
            return await asyncio.to_thread(self._keep, piece, inner, facts)
        except OSError as error:
            raise InputProblem(name, f"It cannot be taken in ({error.strerror}).", "Free some space.") from error
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    def _keep(self, piece: PieceFile, folder: pathlib.Path, facts: dict[str, Facts]) -> int:
        """Take the files into the store and write the piece down, in one step."""
        with self.store.files.adopting() as adopt:
            for digest in piece.hashes:
                adopt(folder / digest)
            return self._write_down(piece, facts)

    def _write_down(self, piece: PieceFile, facts: dict[str, Facts]) -> int:
        with self.store.writing() as db:
            piece_id = pieces.add(db, piece.name, piece.recipe)
            for mesh in piece.meshes:
                size = self.store.files.size(mesh.copy_)
                meshes.put(db, piece_id, mesh.file, mesh.sha256, mesh.copy_, size, facts[mesh.file])
            key = meshes_key(meshes.of_piece(db, piece_id))
            for bake in reversed(piece.bakes):  # the newest first in the file, and last in the table
                bake_id = bakes.add(db, piece_id, bake.manifest.recipe, key if bake.current else "earlier", bake.proof)
                pictures = {(p.sheet, p.key): p.sha256 for p in bake.pictures}
                bakes.finish(db, bake_id, bake.manifest, pictures)
                bakes.date(db, bake_id, bake.name, bake.created, bake.started, bake.ended)
        return piece_id
