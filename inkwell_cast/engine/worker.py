"""The baking process: reads, bakes and keeps what the next job will want again."""

import contextlib
import ctypes
import os
import pathlib
import signal
import sys
import threading
import time
import traceback
from collections import OrderedDict
from multiprocessing.connection import Connection
from multiprocessing.synchronize import Event

import numpy as np

from ..core import bake as baking
from ..core import checks, view
from ..core.cage import Cage
from ..core.errors import Cancelled, InputProblem, RayLibraryMissing
from ..core.formats import read_mesh
from ..core.low import Low
from ..core.manifest import Manifest, MeshFile
from ..core.mesh import Mesh
from ..core.probe import Probe, probe
from .messages import BakeInto, Done, Failed, Job, Load, Loaded, ProbeAt, Result, Source, Told
from .warm import warm_up

KEPT_MESHES = 6
TELL_EVERY = 0.05
PR_SET_PDEATHSIG = 1


def run(pipe: Connection, cancel: Event) -> None:
    """Serve jobs until the pipe closes. Runs in a process of its own."""
    _die_with_parent()
    _limit_memory()
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C goes to the server, which ends this process in order
    worker = _Worker(pipe, cancel)
    with contextlib.suppress(RayLibraryMissing):  # said again, to the user, by the first job that needs it
        warm_up(lambda: pipe.send(Told("compiling", 0.0)))
    while True:
        try:
            job = pipe.recv()
        except (EOFError, OSError):
            return
        cancel.clear()
        pipe.send(worker.answer(job))


def _die_with_parent() -> None:
    if sys.platform == "linux":
        ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
    parent = os.getppid()

    def watch() -> None:
        while os.getppid() == parent:
            time.sleep(0.5)
        os._exit(1)

    threading.Thread(target=watch, daemon=True).start()


def _limit_memory() -> None:
    """Turn running out of memory into an error that can be told, instead of the system ending some process."""
    if sys.platform == "linux":
        import resource

        whole = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
        resource.setrlimit(resource.RLIMIT_AS, (whole, resource.getrlimit(resource.RLIMIT_AS)[1]))


class _Worker:
    def __init__(self, pipe: Connection, cancel: Event) -> None:
        self._pipe, self._cancel = pipe, cancel
        self._meshes: OrderedDict[tuple[str, str], Mesh] = OrderedDict()
        self._warm = baking.Warm()
        self._laid_out: tuple[str, Low, Cage] | None = None
        self._told = 0.0

    def answer(self, job: Job) -> Done | Failed:
        try:
            return Done(self._do(job))
        except InputProblem as problem:
            return Failed("input", str(problem))
        except Cancelled:
            return Failed("cancelled", "Cancelled.")
        except RayLibraryMissing as problem:
            return Failed("input", str(problem))
        except MemoryError:
            return Failed("memory", "The machine ran out of memory. Choose a smaller sheet, or close other programs.")
        except Exception as error:
            return Failed("fault", f"Something went wrong inside the program ({error}).", traceback.format_exc())

    def _do(self, job: Job) -> Result:
        if isinstance(job, Load):
            return self._load(job)
        if isinstance(job, ProbeAt):
            return self._probe(job)
        return self._bake(job)

    def _tell(self, stage: str, share: float) -> None:
        now = time.monotonic()
        if now - self._told > TELL_EVERY:
            self._told = now
            self._pipe.send(Told(stage, share))

    def _load(self, job: Load) -> Loaded:
        self._tell("reading", 0.1)
        mesh = read_mesh(job.path, job.name)
        checks.refuse_empty(mesh)
        if self._cancel.is_set():
            raise Cancelled
        self._tell("drawing", 0.5)
        pathlib.Path(job.view).write_bytes(view.view_of(mesh))
        return Loaded(
            len(mesh.triangles), len(mesh.positions), len(np.unique(mesh.objects)), len(np.unique(mesh.materials)),
            mesh.diagonal, bool(mesh.uvs),
        )  # fmt: skip

    def _bake(self, job: BakeInto) -> Manifest:
        meshes = self._read(job.sources)
        baked = baking.bake(job.recipe, meshes, self._tell, self._cancel.is_set, self._warm)
        self._tell("writing", 0.95)
        everything = zip(_ordered(job.sources), [*meshes.lows, *meshes.highs], strict=True)
        sources = [
            MeshFile(role=s.role, file=s.name, sha256=s.sha256, triangles=len(m.triangles)) for s, m in everything
        ]
        return baked.save(job.folder, sources)

    def _probe(self, job: ProbeAt) -> Probe | None:
        meshes = self._read(job.sources)
        key = job.recipe.model_dump_json() + "".join(s.sha256 + s.role for s in job.sources)
        if self._laid_out is None or self._laid_out[0] != key:
            checks.refuse_unusable(meshes.lows, meshes.highs)
            self._laid_out = key, *baking.lay_out(job.recipe, meshes.lows)
        _, low, cage = self._laid_out
        return probe(low, cage, *self._warm.sculpt(meshes.highs), job.x, job.y)

    def _read(self, sources: list[Source]) -> baking.BakeMeshes:
        meshes = baking.BakeMeshes([], [])
        for source in _ordered(sources):
            key = source.sha256, source.name
            if key not in self._meshes:
                self._tell("reading", 0.0)
                self._meshes[key] = read_mesh(source.path, source.name)
            self._meshes.move_to_end(key)
            (meshes.lows if source.role == "low" else meshes.highs).append(self._meshes[key])
        while len(self._meshes) > max(KEPT_MESHES, len(sources)):
            self._meshes.popitem(last=False)
        return meshes


def _ordered(sources: list[Source]) -> list[Source]:
    """Lows first, each in the order given."""
    return [s for s in sources if s.role == "low"] + [s for s in sources if s.role != "low"]
