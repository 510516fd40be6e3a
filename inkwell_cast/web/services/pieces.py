"""Pieces of the shelf and their mesh files: made, changed, read again, deleted and brought back."""

import pathlib
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from ...core.bake.manifest import sha256_of
from ...core.base.errors import InputProblem
from ...core.mesh.reload_changes import what_changed
from ...core.piece.near_origin import as_the_others, nearer_of, taken_nearer, whole_box
from ...core.settings import editing
from ...core.settings.lods import lod_of, lod_of_object, lods_in
from ...core.settings.mends_overlay import mended
from ...core.settings.pairing import Paired, Part, pair_up
from ...core.settings.recipe import Recipe
from ...core.settings.role_guesses import Guess, guess_roles
from ...engine.messages import Source
from ...store import bakes, meshes, pieces, undo
from ...store.bakes import BakeRow
from ...store.meshes import MeshRow
from ...store.pieces import StoredPiece
from ..local_paths import local_path
from .uploads import Upload, mesh_facts

if TYPE_CHECKING:
    from .services import Services

AS_KNOWN = "Open it with the version that made it, or on the shelf as far as this one knows it."
MOST_NAME = 200  # characters
RECENT = 12  # bakes that the drawer shows before more are asked for
PieceRows = tuple[StoredPiece, list[MeshRow], list[BakeRow]]


class Pieces:
    """The pieces of a data folder."""

    def __init__(self, services: "Services") -> None:
        self.services, self.store, self.uploads = services, services.store, services.uploads
        self._looked: dict[int, tuple[float, int]] = {}  # watched files by their row: what they were at the last look

    def shelf(
        self, search: str = "", order: str = "newest", most: int = -1, skip: int = 0
    ) -> list[tuple[StoredPiece, list[MeshRow], BakeRow | None, int]]:
        """Pieces with their files, newest finished bake and the number of those; see `store.pieces.all_of`."""
        with self.store.reading() as db:
            return [
                (p, meshes.of_piece(db, p.id), bakes.newest_done(db, p.id), bakes.count_done(db, p.id))
                for p in pieces.all_of(db, search, order, most, skip)
            ]

    def names(self, search: str = "") -> dict[int, str]:
        """Names of the pieces on the shelf by their numbers."""
        with self.store.reading() as db:
            return pieces.names(db, search)

    def get(self, piece_id: int, most: int = RECENT) -> PieceRows | None:
        """A piece with its files and its newest bakes."""
        with self.store.reading() as db:
            piece = pieces.get(db, piece_id)
            return (piece, meshes.of_piece(db, piece_id), bakes.of_piece(db, piece_id, most)) if piece else None

    def wanted(self, piece_id: int) -> PieceRows:
        known = self.get(piece_id)
        if known is None:
            raise InputProblem("The piece", "It is no longer on the shelf.", "Go back to the shelf.")
        if known[0].problem:
            raise InputProblem(known[0].name, known[0].problem, AS_KNOWN)
        return known

    def take_as_known(self, piece_id: int) -> None:
        """Go on with what this version knows of a piece's settings; those that it had can be gone back to."""
        with self.store.writing() as db:
            piece = pieces.get(db, piece_id)
            if piece and piece.problem:
                undo.set_recipe(db, piece_id, piece.recipe, "As far as this version knows it")

    def mesh(self, piece_id: int, mesh_id: int) -> MeshRow:
        mesh_row = next((row for row in self.wanted(piece_id)[1] if row.id == mesh_id), None)
        if mesh_row is None:
            raise InputProblem("The mesh", "It is no longer part of the piece.", "Reload the page.")
        return mesh_row

    def make(self, name: str, roles: dict[str, str], recipe: Recipe | None = None, alone: bool = False) -> int:
        """A piece from uploads, `roles` by token ("" goes by names); all of it or nothing. Raises InputProblem.

        `alone` bakes its lows on their own, without a high.
        """
        return self._make(name, roles, recipe, alone, [""])[0]

    def make_lods(self, name: str, roles: dict[str, str], alone: bool = False) -> list[int]:
        """A piece from uploads for each lod that their names say, the finest first; one piece where they say none."""
        known = [upload for token in roles if (upload := self.uploads.taken.get(token))]
        return self._make(name, roles, None, alone, [str(level) for level in lods_of(known)] or [""])

    def _make(
        self, name: str, roles: dict[str, str], recipe: Recipe | None, alone: bool, levels: list[str]
    ) -> list[int]:
        with self.uploads.claimed(roles) as known:
            return self._made_of(name, known, roles, recipe, alone, levels)

    def _made_of(
        self,
        name: str,
        known: list[Upload],
        roles: dict[str, str],
        recipe: Recipe | None,
        alone: bool,
        levels: list[str],
    ) -> list[int]:
        recipe = recipe or self.services.projects.begin_with(upload.place for upload in known)
        for upload in known:
            recipe = editing.set_file(recipe, upload.file_name, role=roles[upload.token])
        if alone:
            recipe = editing.on_their_own(recipe)
        placed = {upload.file_name: whole_box(upload.facts.parts) for upload in known}
        recipe = taken_nearer(recipe, nearer_of(recipe, placed), placed)
        names = [upload.file_name for upload in known]
        for file_name in names:
            if names.count(file_name) > 1:
                raise InputProblem(file_name, "Two files have this name.", "Rename one of them, or remove it here.")
        name, made = name.strip()[:MOST_NAME] or "Untitled piece", list[int]()
        recipes = [editing.at_lod(recipe, level) if level else recipe for level in levels]
        for own in recipes:
            refuse_half_a_piece(name, pair_up(_parts(known), own.pairing, own.files), alone)
        with self.store.writing() as db:
            for own in recipes:
                level = own.pairing.level
                piece_id = pieces.add(db, f"{lod_of(name)[1]} LOD{level}" if level else name, own)
                for upload in known:
                    if not level or any(lod_of_object(*part) in (None, int(level)) for part in _objects([upload])):
                        self._put(db, piece_id, upload)
                made.append(piece_id)
        return made

    def add_mesh(self, piece_id: int, token: str) -> list[str]:
        """Add an upload to a piece, or put it in the place of the file of its name; what that changed, in words.

        Where names give no role, one is guessed beside the piece's other files, and said.
        """
        with self.uploads.claimed([token]) as (upload,):
            return self._add_mesh(piece_id, upload)

    def _add_mesh(self, piece_id: int, upload: Upload) -> list[str]:
        piece, rows, _ = self.wanted(piece_id)
        before, said = next((row for row in rows if row.file_name == upload.file_name), None), list[str]()
        with self.store.writing() as db:
            self._put(db, piece_id, upload)
            guess = None if before else _guess(piece, rows, upload)
            others = {row.file_name: whole_box(row.facts.parts) for row in rows}
            recipe = as_the_others(piece.recipe, upload.file_name, whole_box(upload.facts.parts), others)
            if guess:
                recipe = editing.set_file(recipe, upload.file_name, role=guess.role)
            if recipe != piece.recipe:
                undo.set_recipe(db, piece_id, recipe, f"Add {upload.file_name}")
            if guess:
                said = [f"{upload.file_name} is taken as {guess.role}, by a guess: {guess.why}. Change it at its file."]
        return what_changed(before.facts.parts, upload.facts.parts) if before else said

    def replace_mesh(self, piece_id: int, mesh_id: int, token: str) -> list[str]:
        """Put an upload, whatever its name, in the place of a file; everything set for that file stays."""
        row = self.mesh(piece_id, mesh_id)
        with self.uploads.claimed([token]) as (upload,), self.store.writing() as db:
            meshes.put(
                db,
                piece_id,
                row.file_name,
                upload.sha256,
                upload.copy,
                upload.size,
                upload.facts,
                upload.place,
                upload.modified,
            )
            return what_changed(row.facts.parts, upload.facts.parts)

    def reload(self, piece_id: int, mesh_id: int) -> list[str]:
        """Read a file again from where it lies on this machine. Raises InputProblem where that is not known."""
        row = self.mesh(piece_id, mesh_id)
        if not row.place:
            raise InputProblem(
                row.file_name, "Where it lies is not known.", "Drop the new file on it, or give its path."
            )
        upload = self.uploads.take_from(row.place)
        return self.replace_mesh(piece_id, mesh_id, upload.token)

    def reload_watched(self, piece_id: int) -> list[str]:
        """Read those watched files again that changed on disk; sentences, none if nothing did.

        One that is another at two looks may still be written, and is left for the next look. No clock is asked, since
        that of a file server may be ahead.
        """
        said = []
        for row in self.wanted(piece_id)[1]:
            now = _stamp(row.place) if row.watched and row.place else None
            if now is None or now == (row.modified, row.size):
                self._looked.pop(row.id, None)
            elif self._looked.get(row.id) != now:
                self._looked[row.id] = now
            elif now[1] == row.size and sha256_of(pathlib.Path(row.place)) == row.sha256:  # written with what it held
                with self.store.writing() as db:
                    meshes.set_modified(db, row.id, now[0])
            else:
                changed = self.reload(piece_id, row.id)
                said += [f"{row.file_name} was read again. {' '.join(changed)}"]
        return said

    def set_place(self, piece_id: int, mesh_id: int, place: str, watch: bool) -> None:
        """Where a file lies on this machine, and whether to read it again when it changes there."""
        row, place = self.mesh(piece_id, mesh_id), place.strip()
        if place and not local_path(place, row.file_name, "/home/me/lamp_low.obj").is_file():
            raise InputProblem(row.file_name, f"There is no file “{place}” on this machine.", "Give its whole path.")
        with self.store.writing() as db:
            meshes.set_place(db, mesh_id, place, watch)

    def take_out(self, piece_id: int, mesh_id: int) -> None:
        self.mesh(piece_id, mesh_id)
        with self.store.writing() as db:
            meshes.delete(db, mesh_id)

    def rename(self, piece_id: int, name: str) -> None:
        with self.store.writing() as db:
            pieces.rename(db, piece_id, name[:MOST_NAME])

    def delete(self, piece_id: int) -> None:
        known = self.get(piece_id)
        for row in known[2] if known else []:
            self.services.bakes.cancel(row.id)
        with self.store.writing() as db:
            pieces.delete(db, piece_id)

    def bring_back(self, piece_id: int, moment: float | None = None) -> None:
        """Bring back a deleted piece, or the bakes of a piece that were deleted at a moment. Raises InputProblem."""
        with self.store.writing() as db:
            done = pieces.bring_back(db, piece_id) if moment is None else bakes.bring_back(db, piece_id, moment)
        if not done:
            raise InputProblem("What was deleted", "It is no longer there.", "Reload the page.")

    def sources(self, rows: list[MeshRow]) -> list[Source]:
        return [Source(str(self.store.files.path(r.copy)), r.file_name, r.sha256) for r in rows]

    def _put(self, db: Any, piece_id: int, upload: Upload) -> None:
        meshes.put(
            db,
            piece_id,
            upload.file_name,
            upload.sha256,
            upload.copy,
            upload.size,
            upload.facts,
            upload.place,
            upload.modified,
        )


def _stamp(place: str) -> tuple[float, int] | None:
    """When a file was written, and its bytes; None for one that is not there."""
    try:
        facts = pathlib.Path(place).stat()
    except OSError:
        return None
    return facts.st_mtime, facts.st_size


def lods_of(uploads: list[Upload]) -> list[int]:
    """The levels of detail that names of some files say."""
    return lods_in(_objects(uploads))


def _objects(uploads: list[Upload]) -> list[tuple[str, str]]:
    return [(upload.file_name, part.name) for upload in uploads for part in upload.facts.parts]


def _parts(uploads: list[Upload]) -> list[Part]:
    return [Part(*names) for names in _objects(uploads)]


def _guess(piece: StoredPiece, rows: list[MeshRow], upload: Upload) -> Guess | None:
    """The role that is guessed for a new file of a piece; None where names give it."""
    pairing = piece.recipe.pairing
    there = {row.file_name: mesh_facts(row.file_name, row.facts, pairing) for row in rows}
    for name, facts in there.items():
        if piece.recipe.file(name).role:
            there[name] = replace(facts, role=piece.recipe.file(name).role)
    return guess_roles(there | {upload.file_name: mesh_facts(upload.file_name, upload.facts, pairing)}).get(
        upload.file_name
    )


def refuse_half_a_piece(name: str, paired: Paired, alone: bool) -> None:
    roles = {role for pair in paired.pairs for role, _ in pair.members} | {a.role for a in paired.alone}
    named = name or "The piece"
    if not roles & {"low", "self"}:
        raise InputProblem(named, "No part is a low.", "Add the mesh to bake onto, or mark one of the files as low.")
    if not alone and not roles & {"high", "float", "self"}:
        raise InputProblem(
            named,
            "No part is a high.",
            "Add the sculpt it receives from, mark one of the files as high, or let the low be baked on its own.",
        )


def paired_of(piece: StoredPiece, rows: list[MeshRow]) -> Paired:
    """The pairs of a piece, from what is known of its files without opening them."""
    parts = [Part(row.file_name, part.name) for row in rows for part in row.facts.parts]
    recipe = mended(piece.recipe)
    return pair_up(parts, recipe.pairing, recipe.files)


def sculpts_of(row: MeshRow, paired: Paired) -> tuple[str, ...]:
    """The objects of a file that are drawn as sculpt: all that are no low and no cage."""
    members = [(role, part) for pair in paired.pairs for role, part in pair.members]
    members += [(a.role, a.part) for a in paired.alone]
    other = {part.key for role, part in members if role in ("low", "cage")} | {p.key for p in paired.elsewhere}
    return tuple(p.name for p in row.facts.parts if Part(row.file_name, p.name).key not in other)
