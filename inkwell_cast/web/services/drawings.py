"""What the views draw: lows, cages and sculpts as light meshes, made once and kept."""

import pathlib
import shutil
import threading
from collections.abc import Callable
from concurrent.futures import Future
from functools import partial
from typing import TYPE_CHECKING, Any

from ...core.base.errors import InputProblem
from ...core.mesh.binary_message import unpack_header
from ...engine.messages import Draw, Drawn, DrawNear, Job
from ...store import views
from ..cache_keys import SIDES, view_key
from .pieces import paired_of, sculpts_of

if TYPE_CHECKING:
    from .services import Services


HUGE = 3_000_000  # triangles of a piece whose card must not hold up what was asked for


class Drawings:
    """The drawings of all pieces."""

    def __init__(self, services: "Services") -> None:
        self.services, self.store = services, services.store
        self._drawing: dict[str, Future[pathlib.Path]] = {}
        self._lock = threading.Lock()

    def view(self, piece_id: int, what: Drawn, mesh_id: int = 0) -> pathlib.Path:
        """The file that the browser draws: the lows, their cage or one file's sculpts; made once and kept."""
        piece, rows, _ = self.services.pieces.wanted(piece_id)
        name, names = "", tuple[str, ...]()
        if what == "sculpt":
            row = self.services.pieces.mesh(piece_id, mesh_id)
            rows, name, names = [row], row.file_name, sculpts_of(row, paired_of(piece, rows))
        key = view_key(piece.recipe, rows, what, names)
        known = self._known(key)
        if known:
            return known
        with self._lock:  # several requests for one view wait for one job
            drawing = self._drawing.get(key)
            mine = drawing is None
            if drawing is None:
                drawing = self._drawing[key] = Future()
        if mine:
            sources = self.services.pieces.sources(rows)
            try:
                job = partial(Draw, piece.recipe, sources, what, name=name, names=names)
                drawing.set_result(self._draw(key, lambda path: job(path=path), piece_id, what == "cage"))
            except BaseException as error:
                drawing.set_exception(error)
            finally:
                self._drawing.pop(key)
        return drawing.result()

    def near(self, piece_id: int, mesh_id: int, centre: tuple[float, float, float], radius: float) -> bytes:
        """What the browser draws of one file's sculpts within a ball, scene units; not kept."""
        piece, rows, _ = self.services.pieces.wanted(piece_id)
        row = self.services.pieces.mesh(piece_id, mesh_id)
        names = sculpts_of(row, paired_of(piece, rows))
        job = DrawNear(piece.recipe, self.services.pieces.sources([row]), row.file_name, names, centre, radius)
        drawn: bytes = self.services.engine.submit(job, piece_id=piece_id).future.result()
        return drawn

    def lit(self, piece_id: int) -> pathlib.Path | None:
        """The strip of the newest bake's lit pictures of the low, or of the sculpt; None while the engine is busy.

        Raises InputProblem for a large piece that was never baked: a card must not hold up what was asked for.
        """
        newest, _ = self.services.bakes.newest(piece_id)
        kept = self.services.bakes.picture(newest.id, "", f"{SIDES}low") if newest else None
        if kept and kept.is_file():
            return kept
        piece, rows, _ = self.services.pieces.wanted(piece_id)
        known = self._known(view_key(piece.recipe, rows, "lit", ()))
        if known is None and sum(row.facts.triangles for row in rows) > HUGE:
            raise InputProblem(piece.name, "It is large, and drawn with its first bake.", "Bake it.")
        lanes = self.services.engine
        if known or lanes.reading.busy or not lanes.long.ready.is_set():  # which may still compile what draws it
            return known
        return self.view(piece_id, "lit")

    def _known(self, key: str) -> pathlib.Path | None:
        """A drawing that was made before."""
        with self.store.reading() as db:
            digest = views.get(db, key)
        path = self.store.files.path(digest) if digest else None
        return path if path and path.is_file() else None

    def _draw(self, key: str, job: Callable[[str], Job], piece_id: int, following: bool) -> pathlib.Path:
        folder = self.store.files.temporary_folder()
        try:
            path = folder / "view"
            drawing = job(str(path))
            engine, follow = self.services.engine, self.services.follow
            ticket = follow(piece_id, drawing) if following else engine.submit(drawing, piece_id=piece_id)
            ticket.future.result()
            return self._keep_view(key, path, piece_id)
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    def _keep_view(self, key: str, path: pathlib.Path, piece_id: int) -> pathlib.Path:
        with self.store.files.adopting() as adopt:
            digest = adopt(path)
            with self.store.writing() as db:
                views.put(db, key, digest, piece_id)
        return self.store.files.path(digest)

    def sheets(self, piece_id: int) -> list[dict[str, Any]]:
        """Name, width and height of every sheet of a piece as it is now."""
        sheets: list[dict[str, Any]] = unpack_header(self.view(piece_id, "low"))["sheets"]
        return sheets
