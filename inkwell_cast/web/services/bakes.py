"""Bakes of a piece: started, watched, ended, tried out, compared and thrown away."""

import errno
import os
import pathlib
import shutil
import sqlite3
import threading
import time
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ...core.bake.manifest import Manifest
from ...core.base.errors import InputProblem
from ...core.flaws import COARSE_MARKS, FLAW_MARKS
from ...core.handoff.bake_on_disk import FILE
from ...core.settings.basis import Basis
from ...core.settings.mends import Mend
from ...core.settings.mends_overlay import add_mend
from ...core.settings.recipe import Recipe
from ...engine.messages import PEEK, BakeInto, BringIn
from ...engine.ticket import JobFailed, Ticket
from ...store import bakes, disk
from ...store.bakes import BakeRecord, BakeRow
from ..cache_keys import LIKENESS, PARALLAX, SIDES, meshes_key

if TYPE_CHECKING:
    from .services import Services

TRY_AGAIN_EVERY = 1.0  # seconds
NO_ROOM = (errno.ENOSPC, errno.EDQUOT)


class Bakes:
    """The bakes of all pieces."""

    def __init__(self, services: "Services") -> None:
        self.services, self.store = services, services.store
        self._tickets: dict[int, Ticket] = {}
        self._folders: dict[int, pathlib.Path] = {}  # where running bakes write
        self._closing = threading.Event()

    def start(
        self, piece_id: int, proof: bool, trial: Mend | None = None, mend: bool = False, recipe: Recipe | None = None
    ) -> int:
        """Queue a bake of a piece as it is now, or with other settings. One that is still open is left and returned.

        `trial` is tried out in this bake only; `mend` mends what settings can, and keeps that. Neither goes into a bake
        that is open, nor do other settings: raises InputProblem. A live proof of the same settings is kept instead of a
        proof.
        """
        piece, rows, earlier = self.services.pieces.wanted(piece_id)
        if earlier and earlier[0].state == "judging":
            self.cancel(earlier[0].id)  # this one will be judged
        elif earlier and earlier[0].open:
            if trial or mend or recipe:
                raise InputProblem("The bake", "Another one is at work.", "Wait until it has ended, or cancel it.")
            return earlier[0].id
        if proof and not (trial or mend or recipe):
            newest = self.newest(piece_id)[0]
            row = self.get(newest.id) if newest and newest.live else None
            if row and row.recipe == piece.recipe.proof() and row.meshes == meshes_key(rows):
                self._write(bakes.keep, row.id)  # it is there already
                return row.id
        if proof or trial:
            self.services.live.give_up(piece_id)  # what comes later would lie on top of this one
        recipe = recipe or piece.recipe
        recipe = recipe.proof() if proof else recipe
        recipe = add_mend(recipe, trial) if trial else recipe
        folder = self.store.files.temporary_folder()
        with self.store.writing() as db:
            bake_id = bakes.add(db, piece_id, recipe, meshes_key(rows), proof, trial)
        job = BakeInto(recipe, self.services.pieces.sources(rows), str(folder), mend, proof and not mend)
        return self._queued(piece_id, bake_id, folder, job)

    def bring_in(self, piece_id: int, given: list[tuple[str, str]], reading: Basis | str | None) -> int:
        """Queue the judging of normal maps that were made elsewhere, by file and name; they are kept as a bake is.

        The files go away with the work. Raises InputProblem while another bake is at work.
        """
        piece, rows, earlier = self.services.pieces.wanted(piece_id)
        if earlier and earlier[0].open:
            raise InputProblem("The map", "A bake is at work.", "Wait until it has ended, or cancel it.")
        folder = self.store.files.temporary_folder()
        kept = []
        for n, (path, name) in enumerate(given):
            taken = folder / f"given_{n}{pathlib.PurePath(name).suffix.lower()}"
            shutil.move(path, taken)
            kept.append((str(taken), name))
        with self.store.writing() as db:
            bake_id = bakes.add(db, piece_id, piece.recipe, meshes_key(rows))
            bakes.rename(db, bake_id, given[0][1][:80])
        job = BringIn(piece.recipe, self.services.pieces.sources(rows), kept, reading, str(folder))
        return self._queued(piece_id, bake_id, folder, job)

    def _queued(self, piece_id: int, bake_id: int, folder: pathlib.Path, job: BakeInto | BringIn) -> int:
        ticket = self.services.engine.submit(
            job,
            on_start=lambda: self._write(bakes.start, bake_id),
            on_progress=lambda stage, share: self._write(bakes.tell, bake_id, stage, share),
            piece_id=piece_id,
            on_part=lambda manifest: self._maps_first(bake_id, folder, manifest),
        )
        self._tickets[bake_id], self._folders[bake_id] = ticket, folder
        ticket.future.add_done_callback(lambda future: self._ended(piece_id, bake_id, folder, future))
        return bake_id

    def _maps_first(self, bake_id: int, folder: pathlib.Path, manifest: Manifest) -> None:
        """Keep and show the maps of a bake that is still to be judged."""
        with self.store.files.adopting() as adopt, self.store.writing() as db:
            bakes.finish(db, bake_id, manifest, kept_files(manifest, folder, adopt), judging=True)

    def cancel(self, bake_id: int) -> None:
        ticket = self._tickets.get(bake_id)
        if ticket:
            ticket.stop()

    def seconds_left(self, bake_id: int) -> float | None:
        """How long a running bake still takes; None before there is enough to go by."""
        ticket = self._tickets.get(bake_id)
        return ticket.remaining.seconds_left() if ticket else None

    def peek(self, bake_id: int) -> bytes | None:
        """The map that a running bake is at, as far as it is, as a PNG; None before there is any."""
        folder = self._folders.get(bake_id)
        try:
            return (folder / PEEK).read_bytes() if folder else None
        except OSError:
            return None

    def peek_at(self, bake_id: int) -> str:
        """When that was last written, as a mark that changes; "" before there is any."""
        folder = self._folders.get(bake_id)
        try:
            return str((folder / PEEK).stat().st_mtime_ns) if folder else ""
        except OSError:
            return ""

    # what becomes of bakes

    def kept_trial(self, row: BakeRecord) -> Mend:
        """What a bake tried out; from now on the bake is an ordinary one."""
        if row.trial is None:
            raise InputProblem("The bake", "It tries nothing out.", "Choose a mend of a flaw.")
        self._write(bakes.keep_trial, row.id)
        return row.trial

    def rename(self, row: BakeRecord, name: str) -> None:
        self._write(bakes.rename, row.id, name.strip()[:80])

    def delete(self, row: BakeRecord) -> None:
        """Put a bake that has ended aside; it can be brought back for a while."""
        if row.open:
            raise InputProblem("The bake", "It is still running.", "Cancel it first.")
        self._write(bakes.delete, [row.id], time.time())

    def keep_proofs(self, piece_id: int, kept: int) -> int:
        """Put aside all but the newest proofs of a piece, those with a name apart; returns how many."""
        with self.store.writing() as db:
            spare = bakes.spare_proofs(db, piece_id, max(kept, 0))
            bakes.delete(db, spare, time.time())
        return len(spare)

    def restore(self, row: BakeRecord) -> None:
        """Make the settings of a bake those of its piece again; a proof gives back all but size, samples and rays.

        Raises InputProblem for a map that was made elsewhere, whose settings only say how it was read.
        """
        if row.summary.brought:
            raise InputProblem("The bake", "This map was made elsewhere; it has no settings.", "Choose a bake.")
        words = f"Settings of {row.name or 'an earlier bake'}"
        settings = self.services.settings
        settings.change(row.piece_id, words, lambda recipe: row.recipe.as_large_as(recipe) if row.proof else row.recipe)

    def disk_use(self, bake_ids: list[int]) -> dict[int, int]:
        """Bytes of the pictures of some bakes."""
        with self.store.reading() as db:
            hashes = disk.of_bakes(db, bake_ids)
        return {bake_id: sum(map(self.store.files.size, digests)) for bake_id, digests in hashes.items()}

    def _write(self, change: Any, *values: Any) -> None:
        with self.store.writing() as db:
            change(db, *values)

    def _ended(self, piece_id: int, bake_id: int, folder: pathlib.Path, future: Any) -> None:
        """A bake ended: write down how. Where that cannot be written, it is tried again until it can."""
        if not self._closed(piece_id, bake_id, folder, future):
            again = threading.Thread(
                target=self._close_later,
                args=(piece_id, bake_id, folder, future),
                name=f"end of bake {bake_id}",
                daemon=True,
            )
            again.start()

    def _close_later(self, *end: Any) -> None:
        """Wait for room on the disk: the result lies there already and must not be lost."""
        while not self._closing.wait(TRY_AGAIN_EVERY):
            if self._closed(*end):
                return

    def close(self) -> None:
        """Give up waiting for room; a restart marks what was left as interrupted."""
        self._closing.set()

    def _closed(self, piece_id: int, bake_id: int, folder: pathlib.Path, future: Any) -> bool:
        """Write down how a bake ended, last of all: who sees that it has finds its folder gone and its files kept.

        False where the disk does not take it now.
        """
        change: Any
        values: tuple[Any, ...]
        mends, ticket = list[Mend](), self._tickets.get(bake_id)
        with self.store.files.adopting() as adopt:
            try:
                manifest: Manifest = future.result()
                change, values = bakes.finish, (manifest, kept_files(manifest, folder, adopt))
                mends = manifest.recipe.mends if manifest.mending else []
            except JobFailed as failed:
                change, values = bakes.end, ("cancelled" if failed.kind == "cancelled" else "failed", failed.message)
            except OSError as error:
                if error.errno in NO_ROOM:
                    return False
                change, values = bakes.end, ("failed", f"The result could not be kept ({error}).")
            except Exception as error:
                change, values = bakes.end, ("failed", f"The result could not be kept ({error}).")
            try:
                with self.store.writing() as db:
                    change(db, bake_id, *values)
                    if ticket and ticket.began is not None:
                        bakes.took(db, bake_id, time.monotonic() - ticket.began)
                    if mends and self.services.pieces.get(piece_id):
                        self.services.settings.change(piece_id, "Mend all", lambda recipe: _with_all(recipe, mends))
            except sqlite3.OperationalError:
                return False
        self._tickets.pop(bake_id, None)
        self._folders.pop(bake_id, None)
        shutil.rmtree(folder, ignore_errors=True)
        return True

    def get(self, bake_id: int) -> BakeRecord | None:
        with self.store.reading() as db:
            return bakes.get(db, bake_id)

    def before(self, row: BakeRow) -> BakeRow | None:
        """What a bake is compared with: the one of its kind before it."""
        with self.store.reading() as db:
            earlier = bakes.done_before(db, row)
            return bakes.row_of(db, earlier) if earlier else None

    def newest(self, piece_id: int) -> tuple[BakeRow | None, int]:
        """The newest finished bake of a piece, and how many there are."""
        with self.store.reading() as db:
            return bakes.newest_done(db, piece_id), bakes.count_done(db, piece_id)

    def picture(self, bake_id: int, sheet: str, key: str) -> pathlib.Path | None:
        with self.store.reading() as db:
            digest = bakes.picture(db, bake_id, sheet, key)
        return self.store.files.path(digest) if digest else None


def kept_files(
    manifest: Manifest, folder: pathlib.Path, adopt: Callable[[pathlib.Path], str]
) -> dict[tuple[str, str], str]:
    """Take what a bake wrote into the store; hashes by sheet and key.

    Files stay in the bake's folder too until all is written down, so that this can be tried again.
    """

    def take(name: str) -> str:
        twin = folder / f".{name}.taken"
        twin.unlink(missing_ok=True)
        os.link(folder / name, twin)
        return adopt(twin)

    pictures = {(m.sheet, m.key): take(m.preview or m.file) for m in manifest.maps}
    for m in manifest.maps:
        if m.preview:  # the file itself, beside the picture that the views show
            pictures[m.sheet, f"{m.key}{FILE}"] = take(m.file)
    pictures |= {(sheet.name, LIKENESS): take(sheet.heat) for sheet in manifest.sheets if sheet.heat}
    pictures |= {(sheet.name, PARALLAX): take(sheet.parallax) for sheet in manifest.sheets if sheet.parallax}
    pictures |= {("", f"{SIDES}{name}"): take(file) for name, file in manifest.sides.items()}
    for marks in (FLAW_MARKS, COARSE_MARKS):
        if (folder / marks).is_file():
            pictures["", marks] = take(marks)
    return pictures


def _with_all(recipe: Recipe, mends: list[Mend]) -> Recipe:
    for mend in mends:
        recipe = add_mend(recipe, mend)
    return recipe
