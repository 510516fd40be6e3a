"""Meshes and results as files named by their content's SHA-256.

A file is written under a temporary name and moved into place, so it is whole or absent.
"""

import os
import pathlib
import tempfile

from ..core.manifest import sha256_of


class Files:
    """A folder of files by content hash."""

    def __init__(self, folder: pathlib.Path) -> None:
        self.folder = folder
        self.incoming = folder / "incoming"
        self.incoming.mkdir(parents=True, exist_ok=True)

    def path(self, sha256: str) -> pathlib.Path:
        if len(sha256) != 64 or not set(sha256) <= set("0123456789abcdef"):
            raise ValueError(f"not a content hash: {sha256!r}")
        return self.folder / sha256[:2] / sha256

    def adopt(self, source: pathlib.Path) -> str:
        """Move a finished file from the incoming folder into the store; returns its hash."""
        digest = sha256_of(source)
        target = self.path(digest)
        target.parent.mkdir(exist_ok=True)
        os.replace(source, target)
        return digest

    def temporary_folder(self) -> pathlib.Path:
        """A new empty folder on the same disk as the store."""
        return pathlib.Path(tempfile.mkdtemp(dir=self.incoming))

    def size(self, sha256: str) -> int:
        """Bytes of a file; 0 for one that is gone."""
        path = self.path(sha256)
        return path.stat().st_size if path.is_file() else 0

    def remove(self, sha256: str) -> None:
        self.path(sha256).unlink(missing_ok=True)

    def keep_only(self, wanted: set[str]) -> int:
        """Delete every file that nothing names any more; returns how many."""
        gone = 0
        for file in self.folder.glob("[0-9a-f][0-9a-f]/*"):
            if file.name not in wanted:
                file.unlink(missing_ok=True)
                gone += 1
        return gone
