"""The table of batches."""

import sqlite3
import time
from dataclasses import dataclass

from ..core.handoff.batch import Summary


@dataclass(frozen=True, slots=True)
class BatchRow:
    """A batch; it is at work while `ended` is None."""

    id: int
    place: str
    summary: Summary
    created: float
    ended: float | None
    message: str


def add(db: sqlite3.Connection, place: str, summary: Summary) -> int:
    cursor = db.execute(
        "INSERT INTO batch (place, summary, created) VALUES (?, ?, ?)", (place, summary.model_dump_json(), time.time())
    )
    return int(cursor.lastrowid or 0)


def tell(db: sqlite3.Connection, batch_id: int, summary: Summary) -> None:
    db.execute("UPDATE batch SET summary = ? WHERE id = ?", (summary.model_dump_json(), batch_id))


def end(db: sqlite3.Connection, batch_id: int, message: str = "") -> None:
    db.execute("UPDATE batch SET ended = ?, message = ? WHERE id = ?", (time.time(), message, batch_id))


def end_all(db: sqlite3.Connection) -> None:
    """Batches that an ended server left at work."""
    db.execute(
        "UPDATE batch SET ended = ?, message = 'The program ended during this batch. Start it again; what is done is "
        "kept.' WHERE ended IS NULL",
        (time.time(),),
    )


def all_of(db: sqlite3.Connection, most: int = 20) -> list[BatchRow]:
    """Newest first."""
    batches = []
    for row in db.execute("SELECT * FROM batch ORDER BY id DESC LIMIT ?", (most,)):
        batches.append(BatchRow(**dict(row) | {"summary": Summary.model_validate_json(row["summary"])}))
    return batches


def delete(db: sqlite3.Connection, batch_id: int) -> None:
    db.execute("DELETE FROM batch WHERE id = ? AND ended IS NOT NULL", (batch_id,))
