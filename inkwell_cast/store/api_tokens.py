"""The table of programs that may use the API."""

import sqlite3
import time
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ApiToken:
    """A program, and when it was let in and seen last."""

    id: int
    name: str
    created: float
    used: float | None


def all_of(db: sqlite3.Connection) -> list[ApiToken]:
    rows = db.execute("SELECT id, name, created, used FROM client ORDER BY name")
    return [ApiToken(row["id"], row["name"], row["created"], row["used"]) for row in rows]


def add(db: sqlite3.Connection, name: str, digest: str) -> None:
    """Raises sqlite3.IntegrityError for a name that is there."""
    db.execute("INSERT INTO client (name, digest, created) VALUES (?, ?, ?)", (name, digest, time.time()))


def find(db: sqlite3.Connection, digest: str) -> ApiToken | None:
    row = db.execute("SELECT id, name, created, used FROM client WHERE digest = ?", (digest,)).fetchone()
    return ApiToken(row["id"], row["name"], row["created"], row["used"]) if row else None


def seen(db: sqlite3.Connection, client_id: int) -> None:
    db.execute("UPDATE client SET used = ? WHERE id = ?", (time.time(), client_id))


def delete(db: sqlite3.Connection, client_id: int) -> bool:
    """Whether there was one."""
    return db.execute("DELETE FROM client WHERE id = ?", (client_id,)).rowcount == 1
