"""The table of what the browser draws, by a key of all that it depends on."""

import sqlite3
import time

KEPT = 200


def get(db: sqlite3.Connection, key: str) -> str | None:
    row = db.execute("SELECT sha256 FROM view WHERE key = ?", (key,)).fetchone()
    return str(row["sha256"]) if row else None


def put(db: sqlite3.Connection, key: str, sha256: str, piece_id: int) -> None:
    """Remember a view, and forget those that were made longest ago."""
    db.execute(
        "INSERT OR REPLACE INTO view (key, sha256, used, piece_id) VALUES (?, ?, ?, ?)",
        (key, sha256, time.time(), piece_id),
    )
    db.execute("DELETE FROM view WHERE key NOT IN (SELECT key FROM view ORDER BY used DESC LIMIT ?)", (KEPT,))
