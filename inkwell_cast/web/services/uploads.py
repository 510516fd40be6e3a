"""Taking mesh files in: from the browser, and from where they lie on this machine."""

import contextlib
import pathlib
import re
import secrets
import shutil
import threading
from collections.abc import AsyncIterator, Callable, Iterable, Iterator
from concurrent.futures import Future
from concurrent.futures import TimeoutError as StillAtWork
from dataclasses import asdict, dataclass

import numpy as np
from starlette.concurrency import run_in_threadpool

from ...core.bake.manifest import sha256_of
from ...core.base.errors import InputProblem
from ...core.formats import COMPANIONS, format_of
from ...core.settings.pairing import Pairing, role_by_names
from ...core.settings.role_guesses import Guess, MeshFacts, guess_roles
from ...engine.lanes import Lanes
from ...engine.messages import Load, Loaded
from ...engine.ticket import JobFailed
from ...store import Store
from ...store.meshes import Facts
from ..local_paths import local_path

MAX_UPLOAD = 4 << 30
KEPT_BATCHES = 8
TRIES = 4  # to read a file that changes meanwhile
LOOK_EVERY = 0.2  # seconds between two looks at whether the client is still there

Gone = Callable[[], bool]


@dataclass(frozen=True, slots=True)
class Upload:
    """A file that was taken in and found usable, not yet part of a piece."""

    token: str
    file_name: str
    size: int
    sha256: str
    copy: str
    facts: Facts
    place: str = ""
    modified: float = 0.0


class Uploads:
    """Streams files to disk, lets the engine read them, keeps the packed copy. Whatever fails leaves nothing."""

    def __init__(self, store: Store, engine: Lanes, max_upload: int = MAX_UPLOAD) -> None:
        self.store, self.engine, self.max_upload = store, engine, max_upload
        self.taken: dict[str, Upload] = {}
        self._lock = threading.Lock()
        self._companions: dict[str, pathlib.Path] = {}

    async def take_sent(
        self, name: str, batch: str, announced: str, chunks: AsyncIterator[bytes], gone: Gone | None = None
    ) -> Upload | None:
        """A file that a request sends, which `announced` its length: a mesh, or None for what belongs to one.

        What belongs to a mesh goes before it, in one batch. Raises InputProblem.
        """
        if announced.isdigit() and int(announced) > self.max_upload:
            raise too_large(name, self.max_upload)
        if name.lower().endswith(COMPANIONS):
            await self.take_companion(batch, name, chunks)
            return None
        return await self.take_in(name, chunks, batch, gone)

    async def take_companion(self, batch: str, name: str, chunks: AsyncIterator[bytes]) -> None:
        """Keep an MTL or a glTF buffer for the meshes of the same batch that follow it."""
        name = safe_name(name)
        if pathlib.PurePath(name).suffix.lower() not in COMPANIONS:
            raise InputProblem(name, "Files of this type do not belong to a mesh.", "Add OBJ, GLB or another mesh.")
        if batch not in self._companions:
            self._companions[batch] = self.store.files.temporary_folder()
            while len(self._companions) > KEPT_BATCHES:
                shutil.rmtree(self._companions.pop(next(iter(self._companions))), ignore_errors=True)
        await self._write(name, self._companions[batch] / name, chunks)

    async def take_in(
        self, name: str, chunks: AsyncIterator[bytes], batch: str = "", gone: Gone | None = None
    ) -> Upload:
        """Stream a mesh to disk and read it. Raises InputProblem; nothing is left then.

        The reading is given up when `gone()` says that nobody waits for it any more.
        """
        name = safe_name(name)
        format_of(pathlib.PurePath(name))
        folder = self.store.files.temporary_folder()
        try:
            path = folder / f"mesh{pathlib.PurePath(name).suffix.lower()}"
            size = await self._write(name, path, chunks)
            beside = self._companions.get(batch)
            for companion in beside.iterdir() if beside else ():
                shutil.copy(companion, folder / companion.name)
            return await run_in_threadpool(self._keep, name, path, size, "", 0.0, gone)
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    def take_from(self, place: str, gone: Gone | None = None) -> Upload:
        """Read a file of this machine where it lies. Raises InputProblem."""
        path = local_path(place, "The path", "/home/me/lamp_low.obj")
        if not path.is_file():
            raise InputProblem(place, "There is no such file on this machine.", "Give its whole path.")
        format_of(path)
        for _ in range(TRIES):
            facts = path.stat()
            if facts.st_size > self.max_upload:
                raise too_large(path.name, self.max_upload)
            before = sha256_of(path)
            upload = self._keep(safe_name(path.name), path, facts.st_size, str(path), facts.st_mtime, gone)
            if upload.sha256 == before:
                return upload
            self.forget(upload)  # it changed while it was read: the mesh may be of one state, the hash of the other
        raise InputProblem(path.name, "It changes while it is read.", "Wait until it is written.")

    async def _write(self, name: str, path: pathlib.Path, chunks: AsyncIterator[bytes]) -> int:
        size = 0
        try:
            with path.open("wb") as file:
                async for chunk in chunks:
                    size += len(chunk)
                    if size > self.max_upload:
                        raise too_large(name, self.max_upload)
                    await run_in_threadpool(file.write, chunk)
        except OSError as error:
            raise InputProblem(name, f"The file cannot be stored ({error.strerror}).", "Free some space.") from error
        return size

    def _keep(self, name: str, path: pathlib.Path, size: int, place: str, modified: float, gone: Gone | None) -> Upload:
        folder = self.store.files.temporary_folder()
        try:
            copy = folder / "copy"
            ticket = self.engine.submit(Load(str(path), name, str(copy)))
            if _gone_before(ticket.future, gone):
                ticket.stop()
                raise JobFailed("cancelled", f"{name}: nobody waits for it any more.")
            loaded: Loaded = ticket.future.result()
            digest, kept = sha256_of(path), self.store.files.adopt(copy)
        finally:
            shutil.rmtree(folder, ignore_errors=True)
        upload = Upload(
            secrets.token_urlsafe(12),
            name,
            size,
            digest,
            kept,
            Facts.model_validate(asdict(loaded)),
            place,
            modified,
        )
        self.taken[upload.token] = upload
        return upload

    def guesses(self, tokens: list[str]) -> dict[str, Guess]:
        """Roles that are proposed for uploads whose names give none, by token, beside the others of a piece."""
        together = {token: self.taken[token] for token in tokens if token in self.taken}
        guessed = guess_roles({u.file_name: mesh_facts(u.file_name, u.facts) for u in together.values()})
        return {t: guessed[upload.file_name] for t, upload in together.items() if upload.file_name in guessed}

    @contextlib.contextmanager
    def claimed(self, tokens: Iterable[str]) -> Iterator[list[Upload]]:
        """Uploads that are to become part of a piece in this block, and of no other; where it fails they are kept.

        Raises InputProblem for one that is not known, or that another request has.
        """
        wanted = list(tokens)
        with self._lock:
            if not all(token in self.taken for token in wanted):
                raise unknown_upload()
            uploads = [self.taken.pop(token) for token in wanted]
        try:
            yield uploads
        except BaseException:
            with self._lock:
                self.taken |= {upload.token: upload for upload in uploads}
            raise
        self.store.files.release(*(upload.copy for upload in uploads))

    def forget(self, upload: Upload) -> None:
        """An upload is of no use."""
        self.taken.pop(upload.token, None)
        self.store.files.release(upload.copy)


def _gone_before(wanted: Future[Loaded], gone: Gone | None) -> bool:
    """Whether `gone()` becomes true before what is waited for is there."""
    while gone is not None and not wanted.done():
        with contextlib.suppress(StillAtWork):
            wanted.exception(timeout=LOOK_EVERY)
        if not wanted.done() and gone():
            return True
    return False


def unknown_upload() -> InputProblem:
    return InputProblem("The upload", "It is no longer known here.", "Add the file again.")


def safe_name(name: str) -> str:
    """The last part of a file name that a browser sent, without anything that could act as a path; 120 characters."""
    plain = re.sub(r"[^\w .()\-]", "_", pathlib.PurePosixPath(name.replace("\\", "/")).name, flags=re.UNICODE).strip(
        ". "
    )
    stem, dot, suffix = plain.rpartition(".")
    return f"{stem[:112]}{dot}{suffix[:8]}" if dot else plain[:120] or "unnamed"


def mesh_facts(file_name: str, facts: Facts, pairing: Pairing | None = None) -> MeshFacts:
    """What roles are guessed from: a file's own facts, and what its name or that of its first named part gives."""
    bounds = np.array([part.bounds for part in facts.parts]) if facts.parts else np.zeros((1, 2, 3))
    lowest, highest = bounds[:, 0].min(axis=0), bounds[:, 1].max(axis=0)
    role = role_by_names(file_name.rpartition(".")[0], [part.name for part in facts.parts], pairing or Pairing())
    return MeshFacts(facts.triangles, facts.channels > 0, (tuple(lowest.tolist()), tuple(highest.tolist())), role)


def too_large(name: str, limit: int) -> InputProblem:
    return InputProblem(
        name,
        f"The file is larger than {limit / (1 << 30):.3g} GiB.",
        "Export it as binary PLY, or split it into parts.",
    )
