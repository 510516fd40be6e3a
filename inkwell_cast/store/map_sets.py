"""The table of sets of maps that the user keeps."""

import json
import sqlite3


def all_of(db: sqlite3.Connection) -> dict[str, list[str]]:
    """Maps by the name of their set."""
    return {row["name"]: json.loads(row["maps"]) for row in db.execute("SELECT name, maps FROM map_set ORDER BY name")}


def put(db: sqlite3.Connection, name: str, maps: list[str]) -> None:
    """Keep a set, in the place of one of its name."""
    db.execute(
        "INSERT INTO map_set (name, maps) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET maps = excluded.maps",
        (name, json.dumps(maps)),
    )


def delete(db: sqlite3.Connection, name: str) -> bool:
    """Whether there was one."""
    return db.execute("DELETE FROM map_set WHERE name = ?", (name,)).rowcount == 1
