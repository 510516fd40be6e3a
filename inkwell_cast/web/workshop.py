"""What the pages do with a piece: change it, look at it, check it, bake it. Joins the store and the engine."""

import asyncio
import pathlib
import shutil
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from ..core.base.errors import InputProblem
from ..core.cage.coverage import Coverage
from ..core.checks import Finding
from ..core.mesh.binary_message import unpack_header
from ..core.mesh.reload_changes import what_changed
from ..core.review.probe import Probe
from ..core.review.section import Along, Section
from ..core.settings import editing
from ..core.settings.basis import Basis
from ..core.settings.merge_changes import merged
from ..core.settings.pairing import Part, pair_up
from ..core.settings.recipe import Recipe
from ..core.settings.staleness import CHECKS, COVERAGE
from ..engine.engine import Engine, Ticket
from ..engine.messages import (
    CheckPiece,
    ConvertMap,
    Cover,
    Draw,
    Drawn,
    Export,
    Exported,
    Job,
    ProbeAt,
    SectionAt,
    Source,
)
from ..store import Store, bakes, meshes, pieces, views
from ..store.bakes import BakeRecord, BakeRow
from ..store.meshes import MeshRow
from ..store.pieces import Piece
from .bakery import Bakery
from .batches import Batches
from .counter import Counter
from .disk import Disk
from .intake import MAX_UPLOAD, Intake, Upload, unknown_upload
from .outline import meshes_key, paired_of, refuse_half_a_piece, result_key, sculpts_of, view_key, with_reach
from .places import local_path

KEPT_CHECKS, KEPT_MAKERS = 20, 5000
RECENT = 12  # bakes that the drawer shows before more are asked for
DELETED_DAYS = 7  # after which what was deleted is removed for good
Found = tuple[Piece, list[MeshRow], list[BakeRow]]


@dataclass(frozen=True, slots=True)
class ShownState:
    """What the page of a request shows: a state of its piece's settings, and the tab that it is in."""

    step: int
    tab: str


def _joined(base: Recipe | None, edit: Callable[[Recipe], Recipe], now: Recipe) -> tuple[Recipe, list[str]]:
    """A change made to an older state, joined with the newest one; what to say of it."""
    if base is None:
        raise InputProblem("The settings", "They changed elsewhere since this page was loaded.", "Reload the page.")
    changed, collisions, others = merged(base, edit(base), now)
    said = [f"Meanwhile changed elsewhere, and shown now: {_listed(others)}."] if others else []
    if collisions:
        said.append(f"Not changed here, since it was changed elsewhere too: {_listed(collisions)}. Set it again.")
    return changed, said


def _listed(names: list[str]) -> str:
    """Settings in words, the first few of many."""
    words = [name.replace(".", ", ").replace("_", " ") for name in names]
    return "; ".join(words[:4]) + (f" and {len(words) - 4} more" if len(words) > 4 else "")


class Workshop:
    """All that routes call. Methods that wait for the engine are coroutines."""

    def __init__(self, store: Store, engine: Engine, max_upload: int = MAX_UPLOAD) -> None:
        self.store, self.engine = store, engine
        self.intake = Intake(store, engine, max_upload)
        self._checks: dict[str, list[Finding]] = {}
        self._checking: Ticket | None = None
        self._covered: dict[str, Coverage] = {}
        self._following: dict[int, list[Ticket]] = {}  # jobs that are of no use once their piece's settings change
        self._made_by: dict[tuple[int, int], str] = {}  # the tab that made a state of a piece
        self._drawing: dict[str, asyncio.Task[pathlib.Path]] = {}
        self.bakery, self.counter, self.batches, self.disk = Bakery(self), Counter(self), Batches(self), Disk(self)
        store.remove_deleted(time.time() - DELETED_DAYS * 86400)
        store.tidy()
        with store.writing() as db:
            bakes.mark_interrupted(db)

    # pieces and their files

    def make_piece(self, name: str, roles: dict[str, str], recipe: Recipe | None = None) -> int:
        """A piece from uploads, `roles` by token ("" goes by names); all of it or nothing. Raises InputProblem."""
        uploads = [self.intake.uploads.get(token) for token in roles]
        known = [upload for upload in uploads if upload]
        recipe = recipe or Recipe()
        for upload in known:
            recipe = editing.set_file(recipe, upload.file_name, role=roles[upload.token])
        if len(known) < len(roles):
            raise unknown_upload()
        names = [upload.file_name for upload in known]
        for file_name in names:
            if names.count(file_name) > 1:
                raise InputProblem(file_name, "Two files have this name.", "Rename one of them, or remove it here.")
        parts = [Part(u.file_name, part.name) for u in known for part in u.facts.parts]
        refuse_half_a_piece(name, pair_up(parts, recipe.pairing, recipe.files))
        with self.store.writing() as db:
            piece_id = pieces.add(db, name.strip()[:200] or "Untitled piece", recipe)
            for upload in known:
                self._put(db, piece_id, upload)
        for upload in known:
            self.intake.settled(upload)
        return piece_id

    def add_mesh(self, piece_id: int, token: str, role: str) -> list[str]:
        """Add an upload to a piece, or put it in the place of the file of its name; what that changed, in words."""
        upload = self.intake.known(token)
        piece, rows, _ = self.wanted(piece_id)
        before = next((row for row in rows if row.file_name == upload.file_name), None)
        with self.store.writing() as db:
            self._put(db, piece_id, upload)
            if before is None and role:
                recipe = editing.set_file(piece.recipe, upload.file_name, role=role)
                pieces.set_recipe(db, piece_id, recipe, f"Add {upload.file_name}")
        self.intake.settled(upload)
        return what_changed(before.facts.parts, upload.facts.parts) if before else []

    def replace_mesh(self, piece_id: int, mesh_id: int, token: str) -> list[str]:
        """Put an upload, whatever its name, in the place of a file; everything set for that file stays."""
        upload = self.intake.known(token)
        row = self._row(piece_id, mesh_id)
        with self.store.writing() as db:
            meshes.put(
                db, piece_id, row.file_name, upload.sha256, upload.copy, upload.size, upload.facts, upload.place,
                upload.modified,
            )  # fmt: skip
        self.intake.settled(upload)
        return what_changed(row.facts.parts, upload.facts.parts)

    async def reload(self, piece_id: int, mesh_id: int) -> list[str]:
        """Read a file again from where it lies on this machine. Raises InputProblem where that is not known."""
        row = self._row(piece_id, mesh_id)
        if not row.place:
            raise InputProblem(
                row.file_name, "Where it lies is not known.", "Drop the new file on it, or give its path."
            )
        upload = await self.intake.take_from(row.place)
        return self.replace_mesh(piece_id, mesh_id, upload.token)

    async def reload_watched(self, piece_id: int) -> list[str]:
        """Read those watched files again that changed on disk; sentences, none if nothing did."""
        said = []
        for row in self.wanted(piece_id)[1]:
            path = pathlib.Path(row.place)
            if row.watched and row.place and path.is_file() and path.stat().st_mtime != row.modified:
                if time.time() - path.stat().st_mtime < 1:
                    continue  # perhaps still being written
                changed = await self.reload(piece_id, row.id)
                said += [f"{row.file_name} was read again. {' '.join(changed)}"]
        return said

    def set_place(self, piece_id: int, mesh_id: int, place: str, watch: bool) -> None:
        """Where a file lies on this machine, and whether to read it again when it changes there."""
        row, place = self._row(piece_id, mesh_id), place.strip()
        if place and not local_path(place, row.file_name, "/home/me/lamp_low.obj").is_file():
            raise InputProblem(row.file_name, f"There is no file “{place}” on this machine.", "Give its whole path.")
        with self.store.writing() as db:
            meshes.set_place(db, mesh_id, place, watch)

    def _put(self, db: Any, piece_id: int, upload: Upload) -> None:
        meshes.put(
            db, piece_id, upload.file_name, upload.sha256, upload.copy, upload.size, upload.facts, upload.place,
            upload.modified,
        )  # fmt: skip

    def _row(self, piece_id: int, mesh_id: int) -> MeshRow:
        found = next((row for row in self.wanted(piece_id)[1] if row.id == mesh_id), None)
        if found is None:
            raise InputProblem("The mesh", "It is no longer part of the piece.", "Reload the page.")
        return found

    def take_out(self, piece_id: int, mesh_id: int) -> None:
        self._row(piece_id, mesh_id)
        with self.store.writing() as db:
            meshes.delete(db, mesh_id)

    def delete_piece(self, piece_id: int) -> None:
        for row in self.wanted(piece_id)[2]:
            self.bakery.cancel(row.id)
        with self.store.writing() as db:
            pieces.delete(db, piece_id)

    def bring_back(self, piece_id: int, moment: float | None = None) -> None:
        """Bring back a deleted piece, or the bakes of a piece that were deleted at a moment. Raises InputProblem."""
        with self.store.writing() as db:
            done = pieces.bring_back(db, piece_id) if moment is None else bakes.bring_back(db, piece_id, moment)
        if not done:
            raise InputProblem("What was deleted", "It is no longer there.", "Reload the page.")

    # reading

    def shelf(self) -> list[tuple[Piece, list[MeshRow], BakeRow | None, int]]:
        """Every piece with its files, its newest finished bake and the number of those."""
        with self.store.reading() as db:
            return [
                (p, meshes.of_piece(db, p.id), bakes.newest_done(db, p.id), bakes.count_done(db, p.id))
                for p in pieces.all_of(db)
            ]

    def piece(self, piece_id: int, most: int = RECENT) -> Found | None:
        """A piece with its files and its newest bakes."""
        with self.store.reading() as db:
            found = pieces.get(db, piece_id)
            return (found, meshes.of_piece(db, piece_id), bakes.of_piece(db, piece_id, most)) if found else None

    def wanted(self, piece_id: int) -> Found:
        found = self.piece(piece_id)
        if found is None:
            raise InputProblem("The piece", "It is no longer on the shelf.", "Go back to the shelf.")
        return found

    def bake(self, bake_id: int) -> BakeRecord | None:
        with self.store.reading() as db:
            return bakes.get(db, bake_id)

    def bake_before(self, row: BakeRow) -> BakeRecord | None:
        """What a bake is compared with: the one of its kind before it."""
        with self.store.reading() as db:
            found = bakes.done_before(db, row)
            return bakes.get(db, found) if found else None

    def newest(self, piece_id: int) -> tuple[BakeRow | None, int]:
        """The newest finished bake of a piece, and how many there are."""
        with self.store.reading() as db:
            return bakes.newest_done(db, piece_id), bakes.count_done(db, piece_id)

    def picture(self, bake_id: int, sheet: str, key: str) -> pathlib.Path | None:
        with self.store.reading() as db:
            digest = bakes.picture(db, bake_id, sheet, key)
        return self.store.files.path(digest) if digest else None

    # settings

    def change(
        self, piece_id: int, words: str, edit: Callable[[Recipe], Recipe], shown: "ShownState | None" = None,
        adds: bool = False,
    ) -> list[str]:  # fmt: skip
        """Change a piece's settings by one of `core.settings.editing`'s functions; reading and writing are one step.

        Where the page that asks for it has `shown` an older state, the change is made to that state and joined with
        what happened since; what collides is not changed, which is said in the sentences returned. One that only `adds`
        to a list is made to the newest state. Raises InputProblem where nothing of it can be joined.
        """
        with self.store.writing() as db:
            piece = pieces.get(db, piece_id)
            if piece is None:
                raise InputProblem("The piece", "It is no longer on the shelf.", "Go back to the shelf.")
            said = list[str]()
            if shown is None or adds or self._only_by(shown.tab, piece_id, shown.step, piece.step):
                changed = edit(piece.recipe)
            else:
                changed, said = _joined(pieces.recipe_at(db, piece_id, shown.step), edit, piece.recipe)
            if changed == piece.recipe:
                return said
            pieces.set_recipe(db, piece_id, changed, words)
            if shown:
                self._made_by[piece_id, piece.step + 1] = shown.tab
                while len(self._made_by) > KEPT_MAKERS:
                    self._made_by.pop(next(iter(self._made_by)))
        for ticket in self._following.pop(piece_id, []):
            ticket.stop(patient=True)
        return said

    def _only_by(self, tab: str, piece_id: int, before: int, now: int) -> bool:
        """Whether one tab alone changed a piece since a state that it showed."""
        return before <= now and all(self._made_by.get((piece_id, n)) == tab for n in range(before + 1, now + 1))

    def step_back(self, piece_id: int, steps: int) -> None:
        with self.store.writing() as db:
            pieces.move(db, piece_id, steps)

    # what the engine knows

    async def view(self, piece_id: int, what: Drawn, mesh_id: int = 0) -> pathlib.Path:
        """The file that the browser draws: the lows, their cage or one file's sculpts; made once and kept."""
        piece, rows, _ = self.wanted(piece_id)
        name, names = "", tuple[str, ...]()
        if what == "sculpt":
            row = self._row(piece_id, mesh_id)
            rows, name, names = [row], row.file_name, sculpts_of(row, paired_of(piece, rows))
        key = view_key(piece.recipe, rows, what, names)
        with self.store.reading() as db:
            known = views.get(db, key)
        if known and self.store.files.path(known).is_file():
            return self.store.files.path(known)
        if key not in self._drawing:  # several requests for one view wait for one job
            job = self._draw(
                key, lambda path: Draw(piece.recipe, self.sources(rows), what, path, name, names), piece_id,
                what == "cage",
            )  # fmt: skip
            self._drawing[key] = asyncio.create_task(job)
        try:
            return await asyncio.shield(self._drawing[key])
        finally:
            if key in self._drawing and self._drawing[key].done():
                self._drawing.pop(key)

    def _follow(self, piece_id: int, job: Job) -> Ticket:
        """Hand in a job that is given up when the settings of its piece change."""
        ticket = self.engine.submit(job)
        own = self._following.setdefault(piece_id, [])
        own[:] = [*(t for t in own if not t.future.done()), ticket]
        return ticket

    async def _draw(self, key: str, job: Callable[[str], Job], piece_id: int, following: bool) -> pathlib.Path:
        folder = self.store.files.temporary_folder()
        try:
            path = folder / "view"
            made = job(str(path))
            ticket = self._follow(piece_id, made) if following else self.engine.submit(made)
            await asyncio.wrap_future(ticket.future)
            return await asyncio.to_thread(self._keep_view, key, path, piece_id)
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    def _keep_view(self, key: str, path: pathlib.Path, piece_id: int) -> pathlib.Path:
        with self.store.files.adopting() as adopt:
            digest = adopt(path)
            with self.store.writing() as db:
                views.put(db, key, digest, piece_id)
        return self.store.files.path(digest)

    async def sheets(self, piece_id: int) -> list[dict[str, Any]]:
        """Name, width and height of every sheet of a piece as it is now."""
        sheets: list[dict[str, Any]] = unpack_header(await self.view(piece_id, "low"))["sheets"]
        return sheets

    def stop_checking(self) -> None:
        """Give up checks that are at work."""
        if self._checking:
            self._checking.stop(patient=True)

    async def check(self, piece_id: int) -> list[Finding]:
        """What is wrong with a piece; found once for each state of it."""
        piece, rows, _ = self.wanted(piece_id)
        key = result_key(piece.recipe, rows, CHECKS)
        if key not in self._checks:
            self._checking = self.engine.submit(CheckPiece(piece.recipe, self.sources(rows)))
            self._checks[key] = await asyncio.wrap_future(self._checking.future)
            while len(self._checks) > KEPT_CHECKS:
                self._checks.pop(next(iter(self._checks)))
        return self._checks[key]

    async def cover(self, piece_id: int, scope: str, reach: dict[str, float]) -> Coverage:
        """How well the cage holds the sculpt of a scope, with the piece's reach or one that is being tried."""
        piece, rows, _ = self.wanted(piece_id)
        recipe = with_reach(piece.recipe, scope, reach)
        key = result_key(recipe, rows, COVERAGE) + scope
        if key not in self._covered:
            ticket = self._follow(piece_id, Cover(recipe, self.sources(rows), scope))
            self._covered[key] = await asyncio.wrap_future(ticket.future)
            while len(self._covered) > KEPT_CHECKS:
                self._covered.pop(next(iter(self._covered)))
        return self._covered[key]

    async def section(
        self, piece_id: int, triangle: int, place: tuple[float, float, float], turned: float, zoom: float,
        along: Along, view: tuple[float, float, float],
    ) -> Section | None:  # fmt: skip
        """The slice at a place of the low; None off the paired lows or while the engine is busy."""
        piece, rows, _ = self.wanted(piece_id)
        if self.engine.busy:
            return None
        job = SectionAt(piece.recipe, self.sources(rows), triangle, place, turned, zoom, along, view)
        found: Section | None = await asyncio.wrap_future(self.engine.submit(job).future)
        return found

    def checked(self, piece: Piece, rows: list[MeshRow]) -> list[Finding] | None:
        """The findings for a piece as it is, if they are known."""
        return self._checks.get(result_key(piece.recipe, rows, CHECKS))

    async def export(self, piece_id: int, what: Exported, suffix: str) -> bytes:
        """The low, the sculpt's stand-in or the cage as a file of that type."""
        piece, rows, _ = self.wanted(piece_id)
        folder = self.store.files.temporary_folder()
        try:
            path = folder / f"{what}{suffix}"
            ticket = self.engine.submit(Export(piece.recipe, self.sources(rows), what, str(path)))
            await asyncio.wrap_future(ticket.future)
            return await asyncio.to_thread(path.read_bytes)
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    async def convert(self, piece_id: int, name: str, picture: bytes, source: Basis | None) -> tuple[bytes, str]:
        """A normal map of the lows from a basis (None for object space) to the piece's own, and what to note."""
        piece, rows, _ = self.wanted(piece_id)
        folder = self.store.files.temporary_folder()
        try:
            given = folder / f"given{pathlib.Path(name).suffix.lower()}"
            await asyncio.to_thread(given.write_bytes, picture)
            made = folder / "made.png"
            job = ConvertMap(piece.recipe, self.sources(rows), str(given), str(made), source, piece.recipe.basis)
            said: str = await asyncio.wrap_future(self.engine.submit(job).future)
            return await asyncio.to_thread(made.read_bytes), said.replace(given.name, name)
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    async def probe(self, row: BakeRecord, sheet: str, x: int, y: int) -> Probe | None:
        """What a texel of a bake sees; None off the low, while the engine is busy, or when the meshes have changed."""
        found = self.piece(row.piece_id)
        if found is None or self.engine.busy or meshes_key(found[1]) != row.meshes:
            return None
        ticket = self.engine.submit(ProbeAt(row.recipe, self.sources(found[1]), sheet, x, y))
        result: Probe | None = await asyncio.wrap_future(ticket.future)
        return result

    def sources(self, rows: list[MeshRow]) -> list[Source]:
        return [Source(str(self.store.files.path(r.copy)), r.file_name, r.sha256) for r in rows]
