"""The live proof: the proof of a piece as it is now, renewed whenever that changes."""

import shutil
import time
from collections.abc import Callable
from typing import TYPE_CHECKING

from ...core.bake.manifest import Manifest
from ...core.settings.recipe import Recipe
from ...engine.messages import BakeInto, Job, JudgeProof, ShowProof
from ...store import bakes, disk
from ..cache_keys import meshes_key
from .bakes import kept_files

if TYPE_CHECKING:
    from .services import Services

REST = 20.0  # seconds that an artist stays with a state until its proof is kept


class Live:
    """The live proofs of all pieces. Each stage is given up when settings change, or a newer picture is asked for."""

    def __init__(self, services: "Services") -> None:
        self.services, self.store = services, services.store

    def show(self, piece_id: int, key: str, tried: Callable[[Recipe], Recipe] | None = None) -> bytes:
        """The picture of a map, as a message; with settings that are being tried, a draft of it.

        Raises InputProblem, and JobFailed of the kind "cancelled" where something newer was asked for.
        """
        piece, rows, _ = self.services.pieces.wanted(piece_id)
        recipe = tried(piece.recipe) if tried else piece.recipe
        self.give_up(piece_id)
        return self._follow(piece_id, ShowProof(recipe, self.services.pieces.sources(rows), key, tried is not None))

    def glance(self, piece_id: int, key: str, tried: Callable[[Recipe], Recipe]) -> bytes:
        """A draft of the picture of a map with settings that are being tried, which ends nothing that is under way."""
        piece, rows, _ = self.services.pieces.wanted(piece_id)
        return self._follow(piece_id, ShowProof(tried(piece.recipe), self.services.pieces.sources(rows), key, True))

    def give_up(self, piece_id: int) -> None:
        """End what is under way."""
        self.services.give_up(piece_id, (ShowProof, JudgeProof, BakeInto))

    def judge(self, piece_id: int, key: str) -> bytes:
        """The picture of a map with all samples, as a message, and how the proof is seen."""
        piece, rows, _ = self.services.pieces.wanted(piece_id)
        return self._follow(piece_id, JudgeProof(piece.recipe, self.services.pieces.sources(rows), key))

    def finish(self, piece_id: int) -> int:
        """The whole proof with its flaws, as a bake that goes with the next one; its number.

        One that was there for `REST` is kept.
        """
        piece, rows, _ = self.services.pieces.wanted(piece_id)
        folder, started = self.store.files.temporary_folder(), time.monotonic()
        try:
            job = BakeInto(piece.recipe.proof(), self.services.pieces.sources(rows), str(folder), proof=True)
            ticket = self.services.follow(piece_id, job)
            manifest: Manifest = ticket.future.result()
            with self.store.files.adopting() as adopt:
                files = kept_files(manifest, folder, adopt)
                with self.store.writing() as db:
                    hashes = set[str]().union(*disk.of_bakes(db, bakes.passed_live(db, piece_id)).values())
                    took = time.monotonic() - started
                    bake_id = bakes.put_live(db, piece_id, meshes_key(rows), manifest, files, took, REST)
                    free = disk.unnamed(db, hashes)
            for digest in free:
                self.store.files.remove(digest)
            return bake_id
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    def keep(self, bake_id: int) -> None:
        """Keep a proof in the history that would go with the next one."""
        with self.store.writing() as db:
            bakes.keep(db, bake_id)

    def _follow(self, piece_id: int, job: Job) -> bytes:
        made: bytes = self.services.follow(piece_id, job).future.result()
        return made
