"""What a worker of a cluster does: it finds bands of sheets, or bakes whole pieces, and keeps meshes and scenes."""

import contextlib
import os
import pathlib
import tempfile
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass

from distributed import Event, get_client, get_worker

from ...core.bake.bands import Band, BandResult, find_band
from ...core.base.errors import Cancelled
from ...core.base.on_demand import imported
from ...core.base.progress import Cancel, Progress
from ...core.handoff.batch import Item, Outcome, run_item
from ...core.piece.piece import BakeMeshes
from ...core.piece.scene_cache import Warm
from ...core.settings.limits import HeldTo
from ...core.settings.receivers import Receiver
from ...core.settings.recipe import Recipe
from .connection import THREADS_IN_ENVIRONMENT
from .mesh_store import MeshStore

ASK_EVERY = 0.3  # seconds, whether the work is still wanted


class Lacking(Exception):
    """A mesh is not on this worker, and did not come with the work; its digest is the argument."""


class Unwanted(Exception):
    """Work was given up in its midst, because the one who asked no longer wants it, or the worker is ending."""


@dataclass(frozen=True, slots=True)
class MeshDigests:
    """Meshes by the digests under which they are kept, and which of them `BakeMeshes` has in each role."""

    digests: tuple[str, ...]
    roles: dict[str, tuple[int, ...]]


@dataclass(frozen=True, slots=True)
class FindBand:
    """A band to find: what is baked with which settings, and the event that says when it is no longer wanted."""

    recipe: str
    meshes: MeshDigests
    band: Band
    stop: str


@dataclass(frozen=True, slots=True)
class BakePiece:
    """A piece of a batch to bake and hand off: digests of its files by name; so many, the first, are meshes."""

    name: str
    files: dict[str, str]
    meshes: int
    recipe: str
    receiver: Receiver | None
    mend: bool
    held: HeldTo
    stop: str


class _Kept:
    """The meshes of the piece that this process worked on last, and all that was made of them."""

    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.warm = Warm()
        self._carried: MeshDigests | None = None
        self._meshes = BakeMeshes([], [])

    def meshes_of(self, carried: MeshDigests, data: dict[str, bytes]) -> BakeMeshes:
        """The meshes, from memory, disk, or what came with the work. Raises Lacking."""
        if carried == self._carried:
            return self._meshes
        store = MeshStore()
        store.keep_sent(data)
        try:
            read = [store.read(digest) for digest in carried.digests]
        except FileNotFoundError as lost:
            raise Lacking(str(lost.filename)) from lost
        self.forget()
        self._meshes = BakeMeshes(**{role: [read[n] for n in given] for role, given in carried.roles.items()})
        self._carried = carried
        return self._meshes

    def forget(self) -> None:
        self.warm.forget()
        self._carried = None


_kept = _Kept()


def held(digests: list[str]) -> list[str]:
    """Those of some meshes that lie on this worker's machine."""
    store = MeshStore()
    return [digest for digest in digests if store.holds(digest)]


def find(asked: FindBand, data: dict[str, bytes]) -> BandResult:
    """A band of a sheet; `data` are packed meshes by digest that may lack here.

    Raises InputProblem, Lacking, and MemoryError after letting go of all that was kept.
    """
    with _at_work(asked.stop) as stopped:
        meshes = _kept.meshes_of(asked.meshes, data)
        return find_band(Recipe.model_validate_json(asked.recipe), meshes, asked.band, _kept.warm, stopped)


def bake_piece(asked: BakePiece, data: dict[str, bytes]) -> tuple[Outcome, dict[str, bytes]]:
    """What became of a piece, and the files of its handoff by their name.

    Raises InputProblem, Lacking and MemoryError.
    """
    store = MeshStore()
    with _at_work(asked.stop) as stopped, tempfile.TemporaryDirectory(prefix="inkwell-cast-") as folder:
        given, out = pathlib.Path(folder, "given"), pathlib.Path(folder, "out")
        store.keep_sent(data)
        for name, digest in asked.files.items():
            (given / name).parent.mkdir(parents=True, exist_ok=True)
            try:
                (given / name).write_bytes(store.bytes_of(digest))
            except FileNotFoundError as lost:
                raise Lacking(digest) from lost
        item = Item(asked.name, tuple(given / name for name in [*asked.files][: asked.meshes]))
        _kept.forget()
        outcome = run_item(
            item,
            Recipe.model_validate_json(asked.recipe),
            asked.receiver,
            out,
            asked.mend,
            _told(asked.stop),
            stopped,
            _kept.warm,
            asked.held,
        )
        made = out / outcome.folder
        return outcome, {file.name: file.read_bytes() for file in sorted(made.iterdir()) if file.is_file()}


@contextlib.contextmanager
def _at_work(stop: str) -> Iterator[Cancel]:
    """One thing at a time, with the threads of this worker; gives what says whether it is still wanted."""
    imported("numba").set_num_threads(int(os.environ.get(THREADS_IN_ENVIRONMENT, 0)) or os.cpu_count() or 1)
    unwanted, over, event = threading.Event(), threading.Event(), Event(stop, client=get_client())

    def look() -> None:  # native code in whose midst nothing can be asked looks at what this found
        while not over.wait(ASK_EVERY) and not unwanted.is_set():
            with contextlib.suppress(OSError, RuntimeError, TimeoutError):
                if event.is_set() is True:
                    unwanted.set()

    threading.Thread(target=look, name="still wanted", daemon=True).start()
    with _kept.lock:
        _kept.warm.stopped = _kept.warm.stopped_alone = unwanted.is_set
        try:
            yield unwanted.is_set
        except MemoryError:
            _kept.forget()
            raise
        except Cancelled as cancelled:
            raise Unwanted from cancelled
        finally:
            over.set()


def _told(topic: str) -> Progress:
    """What tells the one who asked how far a piece is, now and then."""
    last = 0.0

    def tell(stage: str, share: float) -> None:
        nonlocal last
        if time.monotonic() - last > ASK_EVERY:
            last = time.monotonic()
            get_worker().log_event(topic, (stage, share))

    return tell
