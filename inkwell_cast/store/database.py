"""The database file: opening it, and bringing its tables up to date by numbered migrations."""

import importlib.resources
import pathlib
import sqlite3


def connect(path: pathlib.Path) -> sqlite3.Connection:
    """Open the database, creating or migrating it. Safe to share between the server's threads behind a lock."""
    connection = sqlite3.connect(path, check_same_thread=False, isolation_level=None)
    connection.row_factory = sqlite3.Row
    connection.execute("PRAGMA journal_mode = WAL")
    connection.execute("PRAGMA foreign_keys = ON")
    connection.execute("PRAGMA busy_timeout = 5000")
    _migrate(connection)
    return connection


def _migrate(connection: sqlite3.Connection) -> None:
    scripts = sorted(
        (
            file
            for file in importlib.resources.files(__package__).joinpath("migrations").iterdir()
            if file.name.endswith(".sql")
        ),
        key=lambda file: file.name,
    )
    done = connection.execute("PRAGMA user_version").fetchone()[0]
    if done > len(scripts):
        raise RuntimeError(
            f"The data folder was written by a newer version (schema {done}, this one knows {len(scripts)}). "
            "Install the newer version or choose another folder with --data."
        )
    for number, script in enumerate(scripts[done:], done + 1):
        connection.executescript(f"BEGIN;\n{script.read_text()}\nPRAGMA user_version = {number};\nCOMMIT;")
