"""What is kept between sessions: a SQLite database and files by content hash."""

import pathlib
import shutil
import sqlite3
import threading
from collections.abc import Iterator
from contextlib import contextmanager

from .database import connect
from .files import Files
from .hold import hold


class Store:
    """The data folder. `reading` and `writing` give the connection; writes are one transaction each."""

    def __init__(self, folder: pathlib.Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self.folder = folder
        self._held = hold(folder)
        self.files = Files(folder / "files")
        self._connection = connect(folder / "inkwell.sqlite")
        self._lock = threading.RLock()

    @contextmanager
    def reading(self) -> Iterator[sqlite3.Connection]:
        with self._lock:
            yield self._connection

    @contextmanager
    def writing(self) -> Iterator[sqlite3.Connection]:
        with self._lock:
            self._connection.execute("BEGIN IMMEDIATE")
            try:
                yield self._connection
            except BaseException:
                self._connection.execute("ROLLBACK")
                raise
            self._connection.execute("COMMIT")

    def tidy(self) -> None:
        """Remove what an earlier run left unfinished, and files that nothing names any more."""
        for left in self.files.incoming.iterdir():
            shutil.rmtree(left) if left.is_dir() else left.unlink()
        with self.reading() as connection:
            rows = connection.execute(
                "SELECT copy FROM mesh UNION SELECT sha256 FROM view UNION SELECT sha256 FROM picture"
            )
            self.files.keep_only({row[0] for row in rows})

    def close(self) -> None:
        with self._lock:
            self._connection.close()
            self._held.close()
