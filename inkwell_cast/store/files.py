"""Meshes and results as files named by their content's SHA-256.

A file is written under a temporary name and moved into place, so it is whole or absent.
"""

import pathlib
import tempfile
import threading
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from ..core.bake.manifest import sha256_of
from ..core.base.system import put_in_place, removed, sync


class Files:
    """A folder of files by content hash."""

    def __init__(self, folder: pathlib.Path) -> None:
        self.folder = folder
        self.incoming = folder / "incoming"
        self.incoming.mkdir(parents=True, exist_ok=True)
        self._lock = threading.Lock()
        self._coming: Counter[str] = Counter()  # files that are adopted, and will soon be named by a table

    def path(self, sha256: str) -> pathlib.Path:
        if len(sha256) != 64 or not set(sha256) <= set("0123456789abcdef"):
            raise ValueError(f"not a content hash: {sha256!r}")
        return self.folder / sha256[:2] / sha256

    def adopt(self, source: pathlib.Path) -> str:
        """Move a finished file into the store; returns its hash. It stays at least until it is released."""
        digest = sha256_of(source)
        with self._lock:
            self._coming[digest] += 1
        try:
            target = self.path(digest)
            target.parent.mkdir(exist_ok=True)
            sync(source)
            if target.is_file():  # of the same content; it may be mapped, and is as good
                source.unlink()
            else:
                put_in_place(source, target)
            sync(target.parent)
        except BaseException:
            self.release(digest)
            raise
        return digest

    def release(self, *digests: str) -> None:
        """Say that adopted files are named by a table now, or are not wanted any more."""
        with self._lock:
            self._coming.subtract(digests)

    @contextmanager
    def adopting(self) -> Iterator[Callable[[pathlib.Path], str]]:
        """Gives `adopt`; the block is where a table comes to name the files, and at its end they are released."""
        mine: list[str] = []

        def adopt(source: pathlib.Path) -> str:
            mine.append(self.adopt(source))
            return mine[-1]

        try:
            yield adopt
        finally:
            self.release(*mine)

    def temporary_folder(self) -> pathlib.Path:
        """A new empty folder on the same disk as the store."""
        return pathlib.Path(tempfile.mkdtemp(dir=self.incoming))

    def size(self, sha256: str) -> int:
        """Bytes of a file; 0 for one that is gone."""
        path = self.path(sha256)
        return path.stat().st_size if path.is_file() else 0

    def remove(self, sha256: str) -> None:
        """Delete a file, unless another one of the same content is just being adopted."""
        with self._lock:
            if not self._coming[sha256]:
                removed(self.path(sha256))  # what is still mapped goes when the store is tidied

    def keep_only(self, wanted: set[str]) -> int:
        """Delete every file that nothing names any more; returns how many."""
        gone = 0
        for file in self.folder.glob("[0-9a-f][0-9a-f]/*"):
            if file.name not in wanted:
                gone += removed(file)
        return gone
