"""What the pages do: take files in, change settings, start and end bakes. Joins the store and the engine."""

import asyncio
import pathlib
import re
import secrets
import shutil
from collections.abc import AsyncIterator
from dataclasses import dataclass
from hashlib import sha256
from typing import Any

from ..core.errors import InputProblem
from ..core.formats import format_of
from ..core.manifest import Manifest
from ..core.probe import Probe
from ..core.recipe import Recipe
from ..engine import Engine, JobFailed, Ticket
from ..engine.messages import BakeInto, Load, Loaded, ProbeAt, Source
from ..store import Store, bakes, meshes, pieces
from ..store.bakes import BakeRow
from ..store.meshes import MeshRow
from ..store.pieces import Piece

MAX_UPLOAD = 4 << 30
PICTURES_BEYOND = 40


@dataclass(frozen=True, slots=True)
class Upload:
    """A file that was taken in and found usable, not yet part of a piece."""

    token: str
    file_name: str
    role: str
    size: int
    sha256: str
    view: str
    loaded: Loaded


class Workshop:
    """All that routes call. Methods that wait for the engine are coroutines."""

    def __init__(self, store: Store, engine: Engine, max_upload: int = MAX_UPLOAD) -> None:
        self.store, self.engine, self.max_upload = store, engine, max_upload
        self._uploads: dict[str, Upload] = {}
        self._tickets: dict[int, Ticket] = {}
        store.tidy()
        with store.writing() as db:
            bakes.mark_interrupted(db)

    # taking files in

    async def take_in(self, name: str, chunks: AsyncIterator[bytes]) -> Upload:
        """Stream a file to disk, let the engine read it, and keep it. Raises InputProblem; nothing is left then."""
        name = safe_name(name)
        format_of(pathlib.PurePath(name))
        folder = self.store.files.temporary_folder()
        try:
            path = folder / "mesh"
            size = await self._write(name, path, chunks)
            return await self._keep(name, path, size)
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    async def _write(self, name: str, path: pathlib.Path, chunks: AsyncIterator[bytes]) -> int:
        size = 0
        try:
            with path.open("wb") as file:
                async for chunk in chunks:
                    size += len(chunk)
                    if size > self.max_upload:
                        raise too_large(name, self.max_upload)
                    await asyncio.to_thread(file.write, chunk)
        except OSError as error:
            raise InputProblem(name, f"The file cannot be stored ({error.strerror}).", "Free some space.") from error
        return size

    async def _keep(self, name: str, path: pathlib.Path, size: int) -> Upload:
        view = path.with_name("view")
        ticket = self.engine.submit(Load(str(path), name, str(view)))
        try:
            loaded: Loaded = await asyncio.wrap_future(ticket.future)
        except asyncio.CancelledError:
            ticket.cancel.set()
            raise
        upload = Upload(
            secrets.token_urlsafe(12), name, role_by_name(name, loaded), size, self.store.files.adopt(path),
            self.store.files.adopt(view), loaded,
        )  # fmt: skip
        self._uploads[upload.token] = upload
        return upload

    def make_piece(self, name: str, roles: dict[str, str], recipe: Recipe | None = None) -> int:
        """A piece from uploads, `roles` by token; all of it or nothing. Raises InputProblem without a low or a high."""
        for role, what in (("low", "the mesh to bake onto"), ("high", "the sculpt it receives from")):
            if role not in roles.values():
                raise InputProblem(
                    name or "The piece",
                    f"No file is marked as {role}.",
                    f"Add {what}, or mark one of the files as {role}.",
                )
        with self.store.writing() as db:
            piece_id = pieces.add(db, name.strip()[:200] or "Untitled piece", recipe or Recipe())
            for token, role in roles.items():
                self._attach(db, piece_id, token, role)
        for token in roles:
            self._uploads.pop(token, None)
        return piece_id

    def add_mesh(self, piece_id: int, token: str, role: str) -> None:
        with self.store.writing() as db:
            self._attach(db, piece_id, token, role)
        self._uploads.pop(token, None)

    def _attach(self, db: Any, piece_id: int, token: str, role: str) -> None:
        upload = self._uploads.get(token)
        if upload is None or role not in ("low", "high"):
            raise InputProblem("The upload", "It is no longer known here.", "Add the file again.")
        facts = upload.loaded
        meshes.add(
            db, piece_id=piece_id, role=role, file_name=upload.file_name, sha256=upload.sha256, size=upload.size,
            triangles=facts.triangles, vertices=facts.vertices, objects=facts.objects, materials=facts.materials,
            diagonal=facts.diagonal, view=upload.view,
        )  # fmt: skip

    # reading

    def shelf(self) -> list[tuple[Piece, list[MeshRow], list[BakeRow]]]:
        with self.store.reading() as db:
            return [(p, meshes.of_piece(db, p.id), bakes.of_piece(db, p.id)) for p in pieces.all_of(db)]

    def piece(self, piece_id: int) -> tuple[Piece, list[MeshRow], list[BakeRow]] | None:
        with self.store.reading() as db:
            found = pieces.get(db, piece_id)
            return (found, meshes.of_piece(db, piece_id), bakes.of_piece(db, piece_id)) if found else None

    def bake(self, bake_id: int) -> BakeRow | None:
        with self.store.reading() as db:
            return bakes.get(db, bake_id)

    def picture(self, bake_id: int, key: str) -> pathlib.Path | None:
        with self.store.reading() as db:
            digest = bakes.picture(db, bake_id, key)
        return self.store.files.path(digest) if digest else None

    def mesh_view(self, mesh_id: int) -> pathlib.Path | None:
        with self.store.reading() as db:
            row = meshes.get(db, mesh_id)
        return self.store.files.path(row.view) if row else None

    # changing

    def set_recipe(self, piece_id: int, recipe: Recipe) -> None:
        with self.store.writing() as db:
            pieces.set_recipe(db, piece_id, recipe)

    def change_mesh(self, mesh_id: int, role: str | None) -> None:
        """Give a mesh another role, or take it out of its piece with None."""
        with self.store.writing() as db:
            if role is None:
                meshes.delete(db, mesh_id)
            elif role in ("low", "high"):
                meshes.set_role(db, mesh_id, role)

    def delete_piece(self, piece_id: int) -> None:
        found = self.piece(piece_id)
        for row in found[2] if found else []:
            self.cancel(row.id)
        with self.store.writing() as db:
            pieces.delete(db, piece_id)

    # baking

    def start_bake(self, piece_id: int, proof: bool) -> int:
        """Queue a bake of a piece as it is now. One that is still open is left alone and returned."""
        found = self.piece(piece_id)
        if found is None:
            raise InputProblem("The piece", "It is no longer on the shelf.", "Go back to the shelf.")
        piece, rows, earlier = found
        if earlier and earlier[0].open:
            return earlier[0].id
        recipe = piece.recipe.proof() if proof else piece.recipe
        with self.store.writing() as db:
            bake_id = bakes.add(db, piece_id, recipe, meshes_key(rows))
        folder = self.store.files.temporary_folder()
        ticket = self.engine.submit(
            BakeInto(recipe, self._sources(rows), str(folder)),
            on_start=lambda: self._write_bake(bakes.start, bake_id),
            on_progress=lambda stage, share: self._write_bake(bakes.tell, bake_id, stage, share),
        )
        self._tickets[bake_id] = ticket
        ticket.future.add_done_callback(lambda future: self._bake_ended(bake_id, folder, future))
        return bake_id

    def cancel(self, bake_id: int) -> None:
        ticket = self._tickets.get(bake_id)
        if ticket:
            ticket.cancel.set()

    async def probe(self, row: BakeRow, x: int, y: int) -> Probe | None:
        """What a texel of a bake sees; None off the low, while the engine is busy, or when the meshes have changed."""
        found = self.piece(row.piece_id)
        if found is None or self.engine.busy or meshes_key(found[1]) != row.meshes:
            return None
        ticket = self.engine.submit(ProbeAt(row.recipe, self._sources(found[1]), x, y))
        result: Probe | None = await asyncio.wrap_future(ticket.future)
        return result

    def _sources(self, rows: list[MeshRow]) -> list[Source]:
        return [Source(str(self.store.files.path(r.sha256)), r.file_name, r.sha256, r.role) for r in rows]

    def _write_bake(self, change: Any, *values: Any) -> None:
        with self.store.writing() as db:
            change(db, *values)

    def _bake_ended(self, bake_id: int, folder: pathlib.Path, future: Any) -> None:
        try:
            manifest: Manifest = future.result()
            pictures = {m.key: self.store.files.adopt(folder / m.file) for m in manifest.maps}
            self._write_bake(bakes.finish, bake_id, manifest, pictures)
        except JobFailed as failed:
            state = "cancelled" if failed.kind == "cancelled" else "failed"
            self._write_bake(bakes.end, bake_id, state, failed.message)
        except Exception as error:
            self._write_bake(bakes.end, bake_id, "failed", f"The result could not be kept ({error}).")
        finally:
            self._tickets.pop(bake_id, None)
            shutil.rmtree(folder, ignore_errors=True)


def meshes_key(rows: list[MeshRow]) -> str:
    """What a bake depends on besides its recipe: changes whenever a mesh or its role does."""
    return sha256("".join(f"{r.role}{r.sha256}" for r in rows).encode()).hexdigest()[:16]


def safe_name(name: str) -> str:
    """The last part of a file name that a browser sent, without anything that could act as a path; 120 characters."""
    plain = re.sub(r"[^\w .()\-]", "_", pathlib.PurePosixPath(name.replace("\\", "/")).name, flags=re.UNICODE).strip(
        ". "
    )
    stem, dot, suffix = plain.rpartition(".")
    return f"{stem[:112]}{dot}{suffix[:8]}" if dot else plain[:120] or "unnamed"


def role_by_name(name: str, loaded: Loaded) -> str:
    """A first guess that the page shows and the artist can change: by suffix, else a mesh with UVs is the low."""
    stem = name.rpartition(".")[0].lower()
    if re.search(r"_low($|[_\W\d])", stem):
        return "low"
    if re.search(r"_(high|float)($|[_\W\d])", stem):
        return "high"
    return "low" if loaded.has_uvs and loaded.triangles < 100_000 else "high"


def too_large(name: str, limit: int) -> InputProblem:
    return InputProblem(
        name,
        f"The file is larger than {limit / (1 << 30):.3g} GiB.",
        "Export it as binary PLY, or split it into parts.",
    )
