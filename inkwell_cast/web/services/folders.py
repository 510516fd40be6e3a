"""Folders of this machine, to choose a place from: the user's own, and those that were opened or written to before."""

import os
import pathlib
from dataclasses import dataclass
from typing import TYPE_CHECKING

from ...core.base.errors import InputProblem
from ...store import batches, handoffs
from ..local_paths import local_path

if TYPE_CHECKING:
    from .services import Services

MOST = 500


@dataclass(frozen=True, slots=True)
class Listed:
    """A folder with what is in it: names of its folders; `above` is the one that it lies in, "" where none is shown."""

    path: str
    above: str
    folders: list[str]
    recent: list[str]


class Folders:
    """What the chooser of places shows."""

    def __init__(self, services: "Services") -> None:
        self.services, self.store = services, services.store

    def listed(self, place: str, piece_id: int | None = None) -> Listed:
        """The folders in a folder, or in the user's own for "". Raises InputProblem for one that is not shown."""
        home = pathlib.Path.home().resolve()
        path = local_path(place, "The folder", "/home/me/textures").resolve() if place else home
        roots = [home, *self._opened(piece_id)]
        if not any(path == root or root in path.parents for root in roots):
            raise InputProblem(
                str(path), "Only your own folder and those you used before are shown.", "Type the path instead."
            )
        try:
            names = sorted(
                (entry.name for entry in os.scandir(path) if entry.is_dir() and not entry.name.startswith(".")),
                key=str.casefold,
            )
        except OSError as error:
            raise InputProblem(
                str(path), f"It cannot be looked into ({error.strerror}).", "Choose another folder."
            ) from error
        above = "" if path in roots and not any(root in path.parents for root in roots) else str(path.parent)
        return Listed(str(path), above, names[:MOST], [str(place) for place in self._written(piece_id)])

    def _opened(self, piece_id: int | None) -> list[pathlib.Path]:
        """Folders that meshes were read from by their path, and that handoffs and batches were written to."""
        places = [pathlib.Path(row.place).parent for row in self._meshes(piece_id) if row.place]
        return [place.resolve() for place in (*places, *self._written(piece_id)) if place.is_dir()]

    def _written(self, piece_id: int | None) -> list[pathlib.Path]:
        with self.store.reading() as db:
            past = handoffs.of_piece(db, piece_id) if piece_id else []
            places = [row.place for row in past] + [row.place for row in batches.all_of(db)]
        folders = [pathlib.Path(place).parent if place.endswith(".zip") else pathlib.Path(place) for place in places]
        return list(dict.fromkeys(folder for folder in folders if folder.is_dir()))[:8]

    def _meshes(self, piece_id: int | None):  # type: ignore[no-untyped-def]
        known = self.services.pieces.get(piece_id, 0) if piece_id else None
        return known[1] if known else []
