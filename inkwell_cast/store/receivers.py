"""The table of the user's own receivers."""

import json
import sqlite3
import time

from ..core.settings.other_versions import as_far_as_known
from ..core.settings.receivers import Receiver


def all_of(db: sqlite3.Connection) -> list[Receiver]:
    rows = db.execute("SELECT receiver FROM receiver ORDER BY name")
    return [as_far_as_known(Receiver, json.loads(row["receiver"]))[0] for row in rows]


def put(db: sqlite3.Connection, receiver: Receiver) -> None:
    """Keep a receiver, in the place of one of its name."""
    db.execute(
        "INSERT INTO receiver (name, receiver, created) VALUES (?, ?, ?) "
        "ON CONFLICT (name) DO UPDATE SET name = excluded.name, receiver = excluded.receiver",
        (receiver.name, receiver.model_dump_json(), time.time()),
    )


def delete(db: sqlite3.Connection, name: str) -> bool:
    """Whether there was one."""
    return db.execute("DELETE FROM receiver WHERE name = ?", (name,)).rowcount == 1
