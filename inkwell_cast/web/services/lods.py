"""Levels of detail on the shelf: pieces of one sculpt, each at a level of its own, beside each other."""

import shutil
from dataclasses import dataclass
from typing import TYPE_CHECKING

from ...core.bake.manifest import Manifest
from ...core.base.errors import InputProblem
from ...store import meshes, pieces
from ...store.bakes import BakeRecord
from ...store.pieces import StoredPiece

if TYPE_CHECKING:
    from .services import Services


@dataclass(frozen=True, slots=True)
class LodRow:
    """A level, its piece, and the manifest of its newest bake; wearable says whether others can wear its map."""

    level: int
    piece: StoredPiece
    facts: Manifest | None
    wearable: bool


class Lods:
    """The levels of a data folder."""

    def __init__(self, services: "Services") -> None:
        self.services = services

    def of(self, piece_id: int) -> list[LodRow]:
        """The levels that share a file with a piece, its own among them, the finest first; none where it has none."""
        own = self.services.pieces.wanted(piece_id)[0]
        if not own.recipe.pairing.level:
            return []
        with self.services.store.reading() as db:
            sharing = [piece for other in meshes.pieces_with(db, piece_id) if (piece := pieces.get(db, other))]
        rows = list[LodRow]()
        for piece in sharing:
            if piece.recipe.pairing.level:
                newest, _ = self.services.bakes.newest(piece.id)
                bake = self.services.bakes.get(newest.id) if newest else None
                facts = bake.manifest if bake else None
                rows.append(LodRow(int(piece.recipe.pairing.level), piece, facts, _wearable(bake)))
        return sorted(rows, key=lambda row: (row.level, row.piece.id))

    def wear(self, piece_id: int, other_id: int) -> int:
        """Judge a piece with the normal maps of the newest bake of another level; the bake that this becomes.

        Raises InputProblem where there is none.
        """
        row = next((row for row in self.of(piece_id) if row.piece.id == other_id), None)
        newest, _ = self.services.bakes.newest(other_id)
        bake = self.services.bakes.get(newest.id) if newest else None
        if row is None or bake is None or bake.manifest is None or not _wearable(bake):
            raise InputProblem("The map", "That level has no bake with a normal map.", "Bake it first.")
        folder, given = self.services.store.files.temporary_folder(), list[tuple[str, str]]()
        try:
            for n, sheet in enumerate(bake.manifest.sheets):
                kept = self.services.bakes.picture(bake.id, sheet.name, "normal")
                if kept is None:
                    raise InputProblem("The map", "Its file is no longer there.", "Bake that level again.")
                shutil.copyfile(kept, folder / str(n))
                given.append((str(folder / str(n)), f"map of level {row.level}.png"))
            return self.services.bakes.bring_in(piece_id, given, bake.recipe.basis)
        finally:
            shutil.rmtree(folder, ignore_errors=True)


def _wearable(bake: BakeRecord | None) -> bool:
    facts = bake.manifest if bake else None
    return bool(facts and not facts.brought and any(entry.key == "normal" for entry in facts.maps))
