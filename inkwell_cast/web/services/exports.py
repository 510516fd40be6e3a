"""Files that leave one by one: meshes, and normal maps in another basis."""

import pathlib
import shutil
from typing import TYPE_CHECKING

from ...core.settings.basis import Basis
from ...engine.messages import ConvertMap, Export, Exported

if TYPE_CHECKING:
    from .services import Services


class Exports:
    """What the engine writes for a download."""

    def __init__(self, services: "Services") -> None:
        self.services, self.store, self.engine = services, services.store, services.engine

    def export(self, piece_id: int, what: Exported, suffix: str) -> bytes:
        """The low, the sculpt's stand-in or the cage as a file of that type."""
        piece, rows, _ = self.services.pieces.wanted(piece_id)
        folder = self.store.files.temporary_folder()
        try:
            path = folder / f"{what}{suffix}"
            job = Export(piece.recipe, self.services.pieces.sources(rows), what, str(path))
            ticket = self.engine.submit(job, piece_id=piece_id)
            ticket.future.result()
            return path.read_bytes()
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    def convert(self, piece_id: int, name: str, picture: bytes, source: Basis | None) -> tuple[bytes, str]:
        """A normal map of the lows from a basis (None for object space) to the piece's own, and what to note."""
        piece, rows, _ = self.services.pieces.wanted(piece_id)
        folder = self.store.files.temporary_folder()
        try:
            given = folder / f"given{pathlib.Path(name).suffix.lower()}"
            given.write_bytes(picture)
            converted = folder / "made.png"
            sources = self.services.pieces.sources(rows)
            job = ConvertMap(piece.recipe, sources, str(given), str(converted), source, piece.recipe.basis)
            said: str = self.engine.submit(job, piece_id=piece_id).future.result()
            return converted.read_bytes(), said.replace(given.name, name)
        finally:
            shutil.rmtree(folder, ignore_errors=True)
