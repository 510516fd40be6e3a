"""The side of a cluster that asks: sheets are cut into bands, batches into pieces, and its workers find them.

Dask schedules, moves data, and starts again what a lost worker had. What is decided here is what a band is, what
becomes of one that does not fit into a worker's memory, and what the artist is told.
"""

import pathlib
import queue
import time
import uuid
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from distributed import CancelledError, Event, Future, KilledWorker

from ...core.bake.bands import Band, BandResult
from ...core.bake.memory_estimate import in_gb, needed
from ...core.base.array_types import I64
from ...core.base.errors import Cancelled, InputProblem
from ...core.base.progress import Cancel, Progress
from ...core.handoff.batch import Item, Outcome
from ...core.handoff.cluster_results import packed_up, put_results
from ...core.maps.panorama import with_panorama
from ...core.mesh.mesh import Mesh
from ...core.piece.piece import BakeMeshes
from ...core.settings.limits import AS_THEY_ARE, HeldTo
from ...core.settings.receivers import Receiver
from ...core.settings.recipe import Recipe
from . import on_worker
from .connection import MEMORY, connected, most_memory, of_this_version, refuse_gone, refuse_unfit, workers_of
from .mesh_store import MeshStore

LOOK_EVERY = 0.1  # seconds, whether to go on
FETCH_WITHIN = 60  # seconds
BANDS, BANDS_A_WORKER = 32, 6  # at least so many a sheet
LEAST = 8  # tiles of a band, unless it did not fit
ALONE_FOR = 60  # seconds without a worker, in which one may start again
TRIES = 3  # of work whose worker or meshes were lost
ROLES = ("lows", "highs", "named", "cages")

Any_Future = Future[Any]


@dataclass(slots=True)
class _Asked:
    """Work that is being done: the tiles of a band, or None for a piece; and how often it was lost."""

    future: Any_Future
    tiles: I64 | None
    lost: int = 0


@dataclass(slots=True)
class _Asking:
    """What is asked of the workers: `task(job_of(tiles), data)`, each with so many bytes for its arrays.

    digests name all files that workers need, content gives those that some lack, which are in `data` then.
    """

    task: Callable[..., Any]
    job_of: Callable[[I64 | None], Any]
    memory: int
    stop: str
    digests: list[str]
    content: Callable[[str], bytes]
    data: dict[str, Any_Future] = field(default_factory=dict)
    alone_since: float | None = None  # when no worker was left
    waiting: dict[str, _Asked] = field(default_factory=dict)
    heard: "queue.SimpleQueue[Any_Future]" = field(default_factory=queue.SimpleQueue)


class Cluster:
    """The workers at an address; raises InputProblem where there are none, or some of another version."""

    def __init__(self, address: str) -> None:
        self.address = address
        self._kept: dict[int, tuple[Mesh, str]] = {}
        self._client, self._local = connected(address)
        try:
            refuse_unfit(self._client, address)
        except InputProblem:
            self.close()
            raise

    def close(self) -> None:
        self._client.close(timeout=2)
        if self._local is not None:
            self._local.close()

    @property
    def is_there(self) -> bool:
        return bool(self._client.status == "running")

    @property
    def scheduler(self) -> str:
        """The address of its scheduler, for other processes."""
        return str(self._client.scheduler_info()["address"])

    @property
    def workers(self) -> int:
        """How many there are now."""
        return len(workers_of(self._client))

    def find(
        self, recipe: Recipe, meshes: BakeMeshes, sheet: int, tiles: I64, layers: tuple[str, ...], cancelled: Cancel
    ) -> Iterator[BandResult]:
        """See `core.bake.bands.Elsewhere`."""
        carried, stop, given = self._carried(meshes), _new_stop(), with_panorama(recipe).model_dump_json()

        def job_of(part: I64 | None) -> on_worker.FindBand:
            assert part is not None
            return on_worker.FindBand(given, carried, Band(sheet, part, layers), stop)

        asking = _Asking(
            on_worker.find, job_of, self._memory_for(recipe), stop, [*carried.digests], MeshStore().bytes_of
        )
        count = int(np.clip(len(tiles) // LEAST, 1, max(BANDS, BANDS_A_WORKER * self.workers)))
        yield from self._answers(asking, np.array_split(tiles, count), cancelled)

    def bake_piece(
        self,
        item: Item,
        recipe: Recipe,
        receiver: Receiver | None,
        out: pathlib.Path,
        mend: bool = False,
        progress: Progress = lambda stage, share: None,
        cancelled: Cancel = lambda: False,
        held: HeldTo = AS_THEY_ARE,
    ) -> Outcome:
        """`core.handoff.batch.run_item` on a worker; what that made is put into `out` here."""
        files, stop = packed_up(item), _new_stop()
        job = on_worker.BakePiece(
            item.name,
            {name: digest for name, (_, digest) in files.items()},
            len(item.files),
            with_panorama(recipe).model_dump_json(),
            receiver,
            mend,
            held,
            stop,
        )
        places = {digest: path for path, digest in files.values()}
        asking = _Asking(
            on_worker.bake_piece,
            lambda part: job,
            self._memory_for(recipe),
            stop,
            [*places],
            lambda digest: places[digest].read_bytes(),
        )
        self._client.subscribe_topic(stop, lambda event: progress(*event[1]))
        try:
            outcome, made = next(self._answers(asking, [None], cancelled))
        finally:
            self._client.unsubscribe_topic(stop)
        return put_results(outcome, made, out)

    def _answers(self, asking: _Asking, parts: Iterable[I64 | None], cancelled: Cancel) -> Iterator[Any]:
        """What the workers find, in any order. Raises Cancelled, and what cannot be helped."""
        try:
            self._send(asking)
            for part in parts:
                self._ask(asking, part)
            while asking.waiting:
                if cancelled():
                    raise Cancelled
                try:
                    future = asking.heard.get(timeout=LOOK_EVERY)
                except queue.Empty:
                    self._refuse_left_alone(asking)
                    continue
                asked, asking.alone_since = asking.waiting.pop(str(future.key)), None
                if future.status != "finished":
                    self._again(asking, asked, future.exception() if future.status == "error" else None)
                    continue
                try:
                    found = future.result(timeout=FETCH_WITHIN)
                except (OSError, TimeoutError, KilledWorker, CancelledError):  # its worker went with what it had found
                    self._again(asking, asked, None)
                    continue
                yield found
        finally:
            self._give_up(asking)

    def _ask(self, asking: _Asking, tiles: I64 | None, lost: int = 0) -> None:
        future = self._client.submit(
            asking.task,
            asking.job_of(tiles),
            asking.data,
            key=f"{asking.task.__name__}-{uuid.uuid4().hex}",
            pure=False,
            resources={of_this_version(): 1, MEMORY: asking.memory},
        )
        asking.waiting[str(future.key)] = _Asked(future, tiles, lost)
        future.add_done_callback(asking.heard.put)

    def _refuse_left_alone(self, asking: _Asking) -> None:
        """Raises InputProblem where the scheduler is gone, or all workers have been for long."""
        refuse_gone(self._client, self.address)
        if self.workers:
            asking.alone_since = None
        elif asking.alone_since is None:
            asking.alone_since = time.monotonic()
        elif time.monotonic() - asking.alone_since > ALONE_FOR:
            raise InputProblem(
                f"The cluster at {self.address}",
                f"All its workers have been gone for {ALONE_FOR} seconds.",
                f"Start some with: inkwell-cast worker {self.address}, and bake again; nothing of the piece is lost.",
            )

    def _again(self, asking: _Asking, asked: _Asked, error: BaseException | None) -> None:
        """Ask once more for what was not found, a band in halves where it did not fit; no error is a worker that went.

        Raises what cannot be helped.
        """
        refuse_gone(self._client, self.address)
        if isinstance(error, MemoryError | KilledWorker):
            if asked.tiles is None or len(asked.tiles) == 1:
                raise InputProblem(
                    f"The cluster at {self.address}",
                    "This bake ended every worker that tried it, for want of memory.",
                    "Start workers with more memory, or bake on this machine.",
                ) from error
            for half in np.array_split(asked.tiles, 2):
                self._ask(asking, half)
            return
        if error is not None and not isinstance(error, on_worker.Lacking | on_worker.Unwanted | OSError):
            raise error
        if asked.lost >= TRIES:
            raise InputProblem(
                f"The cluster at {self.address}",
                f"A part of the bake was lost {TRIES + 1} times.",
                "Look at the logs of its workers, or bake on this machine.",
            )
        if isinstance(error, on_worker.Lacking) or any(sent.status != "finished" for sent in asking.data.values()):
            self._send(asking)
        self._ask(asking, asked.tiles, asked.lost + 1)

    def _give_up(self, asking: _Asking) -> None:
        """Let go of what is still asked for; workers stop within a moment."""
        futures = [asked.future for asked in asking.waiting.values()]
        if futures and self._client.status == "running":
            Event(asking.stop, client=self._client).set()
            self._client.cancel(futures, force=True)
        asking.waiting.clear()

    def _send(self, asking: _Asking) -> None:
        """Hand over the files that some worker does not have on its disk; Dask moves them where they are needed."""
        there = self._client.run(on_worker.held, asking.digests, on_error="ignore")
        lacking = [digest for digest in asking.digests if any(digest not in held for held in there.values())]
        asking.data = {}
        if lacking:
            futures = self._client.scatter([asking.content(digest) for digest in lacking], hash=False)
            asking.data = dict(zip(lacking, futures, strict=True))

    def _carried(self, meshes: BakeMeshes) -> on_worker.MeshDigests:
        """The meshes under their digests; all of them lie in this machine's store then."""
        store, before = MeshStore(), self._kept
        self._kept = {}
        try:
            for role in ROLES:
                for mesh in getattr(meshes, role):
                    self._kept[id(mesh)] = before.get(id(mesh)) or (mesh, store.keep(mesh))
        except OSError as error:
            raise InputProblem(
                str(store.folder),
                f"The meshes cannot be kept there for the workers ({error.strerror}).",
                "Free some space, or name another folder in INKWELL_CAST_MESHES.",
            ) from error
        order = list(self._kept)
        roles = {role: tuple(order.index(id(mesh)) for mesh in getattr(meshes, role)) for role in ROLES}
        return on_worker.MeshDigests(tuple(digest for _, digest in self._kept.values()), roles)

    def _memory_for(self, recipe: Recipe) -> int:
        """Bytes that a worker must have for the arrays of a sheet. Raises InputProblem where none has them."""
        wanted = needed(recipe, [(recipe.sheet.width, recipe.sheet.height)]).memory
        most = most_memory(self._client)
        if most < wanted:
            raise InputProblem(
                f"The cluster at {self.address}",
                f"A sheet of this bake takes {in_gb(wanted)}, and its largest worker has {in_gb(most)}.",
                "Start workers with more memory, bake fewer maps at once, or bake on this machine.",
            )
        return wanted


def _new_stop() -> str:
    """A name for the event that says that work is no longer wanted, and the topic on which it tells how far it is."""
    return f"inkwell-cast-{uuid.uuid4().hex}"
