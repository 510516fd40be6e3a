"""The table of handoffs that were written."""

import sqlite3
import time
from dataclasses import dataclass

KEPT = 50


@dataclass(frozen=True, slots=True)
class HandoffRow:
    id: int
    piece_id: int
    bake_id: int
    place: str
    receiver: str
    files: int
    created: float


def add(db: sqlite3.Connection, piece_id: int, bake_id: int, place: str, receiver: str, files: int) -> None:
    """Remember a handoff, in the place of one that it replaced, and forget the oldest of its piece."""
    db.execute("DELETE FROM handoff WHERE place = ?", (place,))
    db.execute(
        "INSERT INTO handoff (piece_id, bake_id, place, receiver, files, created) VALUES (?, ?, ?, ?, ?, ?)",
        (piece_id, bake_id, place, receiver, files, time.time()),
    )
    db.execute(
        "DELETE FROM handoff WHERE piece_id = :piece AND id NOT IN "
        "(SELECT id FROM handoff WHERE piece_id = :piece ORDER BY id DESC LIMIT :kept)",
        {"piece": piece_id, "kept": KEPT},
    )


def of_piece(db: sqlite3.Connection, piece_id: int) -> list[HandoffRow]:
    """Newest first."""
    rows = db.execute("SELECT * FROM handoff WHERE piece_id = ? ORDER BY id DESC", (piece_id,))
    return [HandoffRow(**dict(row)) for row in rows]
