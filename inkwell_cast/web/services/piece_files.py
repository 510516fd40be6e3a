"""Pieces as portable files, saved from the shelf and put on it."""

import pathlib
import shutil
from collections.abc import AsyncIterator
from dataclasses import asdict
from typing import TYPE_CHECKING

from starlette.concurrency import run_in_threadpool

from ...core.base.errors import InputProblem
from ...core.handoff.file_names import plain
from ...core.handoff.piece_file import BakeEntry, MeshEntry, PictureEntry, PieceFile, unpack_piece, write_piece
from ...engine.messages import Loaded, LoadPacked
from ...store import bakes, meshes, pieces
from ...store.meshes import Facts
from ..cache_keys import meshes_key
from .uploads import safe_name, too_large

if TYPE_CHECKING:
    from .services import Services


class PieceFiles:
    """Saving and opening pieces whole."""

    def __init__(self, services: "Services") -> None:
        self.services, self.store = services, services.store

    def save(self, piece_id: int) -> pathlib.Path:
        """A piece with all its bakes as one file, in a folder of its own that the caller removes."""
        known = self.services.pieces.get(piece_id, -1)
        if known is None:
            raise InputProblem("The piece", "It is no longer on the shelf.", "Go back to the shelf.")
        piece, rows, there = known
        entries = []
        for light in there:
            row = self.services.bakes.get(light.id)
            if row is None or row.manifest is None:
                continue
            with self.store.reading() as db:
                pictures = bakes.pictures_of(db, row.id)
            entries.append(
                BakeEntry(
                    name=row.name,
                    proof=row.proof,
                    created=row.created,
                    started=row.started,
                    ended=row.ended,
                    manifest=row.manifest,
                    current=row.meshes == meshes_key(rows),
                    pictures=[PictureEntry(sheet=s, key=k, sha256=h) for (s, k), h in sorted(pictures.items())],
                )
            )
        given = [MeshEntry(file=row.file_name, sha256=row.sha256, copy=row.copy) for row in rows]
        contents = PieceFile(name=piece.name, recipe=piece.recipe, meshes=given, bakes=entries)
        path = self.store.files.temporary_folder() / f"{plain(piece.name)}.icast"
        try:
            write_piece(path, contents, self.store.files.path)
        except OSError as error:
            shutil.rmtree(path.parent, ignore_errors=True)
            raise InputProblem(piece.name, f"It cannot be saved ({error.strerror}).", "Free some space.") from error
        return path

    async def open(self, name: str, chunks: AsyncIterator[bytes]) -> int:
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
                    if size > self.services.uploads.max_upload:
                        raise too_large(name, self.services.uploads.max_upload)
                    await run_in_threadpool(file.write, chunk)
            return await run_in_threadpool(self._take_in, path, inner, name)
        except OSError as error:
            raise InputProblem(name, f"It cannot be taken in ({error.strerror}).", "Free some space.") from error
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    def _take_in(self, path: pathlib.Path, inner: pathlib.Path, name: str) -> int:
        """Unpack a piece file into a folder, check its meshes, and put it on the shelf."""
        piece = unpack_piece(path, inner, name)
        path.unlink()
        facts = {}
        for mesh in piece.meshes:
            job = LoadPacked(str(inner / mesh.copy_), mesh.file)
            loaded: Loaded = self.services.engine.submit(job).future.result()
            facts[mesh.file] = Facts.model_validate(asdict(loaded))
        return self._keep(piece, inner, facts)

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
