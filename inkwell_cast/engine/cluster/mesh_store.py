"""Meshes on the disk of a machine, by the hash of their content, for all workers on it.

A mesh is kept as `binary_message` packs it, so it comes back bit for bit, mapped from the file. What was used longest
ago goes when they take more than there is room for.
"""

import contextlib
import hashlib
import os
import pathlib

from ... import kernel_cache
from ...core.base.atomic_files import whole
from ...core.base.system import removed
from ...core.mesh.binary_message import packed, read_packed, write_blocks
from ...core.mesh.mesh import Mesh

ROOM = 20_000_000_000  # bytes, unless INKWELL_CAST_MESH_ROOM says otherwise


class MeshStore:
    """A folder of packed meshes; INKWELL_CAST_MESHES, else beside the compiled kernels."""

    def __init__(self, folder: pathlib.Path | None = None, room: int | None = None) -> None:
        named = os.environ.get("INKWELL_CAST_MESHES")
        self.folder = folder or (pathlib.Path(named) if named else kernel_cache.folder().parent / "meshes")
        self.room = int(os.environ.get("INKWELL_CAST_MESH_ROOM", ROOM)) if room is None else room

    def path_of(self, digest: str) -> pathlib.Path:
        return self.folder / digest

    def holds(self, digest: str) -> bool:
        return self.path_of(digest).is_file()

    def keep(self, mesh: Mesh) -> str:
        """The SHA-256 of a mesh as packed, after which it is there. Raises OSError."""
        blocks, digest = packed(mesh), hashlib.sha256()
        for block in blocks:
            digest.update(block)
        if not self.holds(digest.hexdigest()):
            self._make_room(sum(len(block) for block in blocks))
            with whole(self.path_of(digest.hexdigest())) as partial:
                write_blocks(partial, blocks)
        return digest.hexdigest()

    def keep_sent(self, sent: dict[str, bytes]) -> None:
        """Keep files that came from elsewhere, by their digest. Raises ValueError where one is not what that says."""
        for digest, data in sent.items():
            if self.holds(digest):
                continue
            if hashlib.sha256(data).hexdigest() != digest:
                raise ValueError(f"the file {digest[:12]} came damaged")
            self._make_room(len(data))
            with whole(self.path_of(digest)) as partial:
                partial.write_bytes(data)

    def read(self, digest: str) -> Mesh:
        """A mesh that is there; it counts as used now. Raises FileNotFoundError."""
        path = self.path_of(digest)
        os.utime(path)
        return read_packed(path)

    def bytes_of(self, digest: str) -> bytes:
        return self.path_of(digest).read_bytes()

    def _make_room(self, wanted: int) -> None:
        """Let go of what was used longest ago, as far as another mesh of so many bytes needs it."""
        self.folder.mkdir(parents=True, exist_ok=True)
        there = []
        for path in self.folder.iterdir():
            with contextlib.suppress(OSError):
                there.append((path.stat().st_mtime, path.stat().st_size, path))
        taken = sum(size for _, size, _ in there)
        for _, size, path in sorted(there):
            if taken + wanted <= self.room:
                return
            if removed(path):
                taken -= size
