"""Disk use of the shelf: what takes how much, what was deleted and can be brought back, and freeing it."""

import shutil
import time
from typing import TYPE_CHECKING, Any

from ...store import disk

if TYPE_CHECKING:
    from .services import Services


class Disk:
    """The disk of a data folder."""

    def __init__(self, services: "Services") -> None:
        self.services, self.store = services, services.store

    def report(self) -> dict[str, Any]:
        """Pieces with the bytes of what belongs to them, the largest first; what was deleted; what is free.

        A file that two pieces have counts for both, and once in the sum.
        """
        with self.store.reading() as db:
            live = self.services.pieces.names()
            files = disk.of_pieces(db, live)
            gone = [dict(row) for row in disk.deleted_pieces(db)]
            gone_files = [disk.of_piece(db, row["id"]) for row in gone]
            gone_bakes = [dict(row) for row in disk.deleted_bakes(db)]
        sizes: dict[str, int] = {}

        def size(hashes: set[str]) -> int:
            for digest in hashes - sizes.keys():
                sizes[digest] = self.store.files.size(digest)
            return sum(sizes[digest] for digest in hashes)

        rows: list[dict[str, Any]] = [
            {"id": piece_id, "name": live[piece_id], **{kind: size(hashes) for kind, hashes in kinds.items()}}
            for piece_id, kinds in files.items()
        ]
        for row in rows:
            row["whole"] = sum(row[kind] for kind in ("meshes", "drawings", "proofs", "bakes", "deleted"))
        for row, kinds in zip(gone, gone_files, strict=True):
            row["whole"] = size(set().union(*kinds.values()))
        return {
            "rows": sorted(rows, key=lambda row: -row["whole"]),
            "gone": gone,
            "gone_bakes": gone_bakes,
            "whole": sum(sizes.values()),
            "free": shutil.disk_usage(self.store.folder).free,
            "deleted": sum(row["whole"] for row in gone) + sum(row["deleted"] for row in rows),
        }

    def keep_proofs(self, kept: int) -> int:
        """Put aside all but the newest proofs of every piece; returns how many."""
        return sum(self.services.bakes.keep_proofs(piece_id, kept) for piece_id in self.services.pieces.names())

    def empty(self) -> int:
        """Remove for good all that was deleted; returns the bytes that this frees."""
        before = self.report()["whole"]
        self.store.remove_deleted(time.time() + 1)
        return int(before - self.report()["whole"])
