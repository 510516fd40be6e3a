"""What is kept between sessions: a SQLite database and files by content hash."""

import pathlib
import shutil
import sqlite3
import threading
from collections.abc import Iterator
from contextlib import contextmanager

from . import bakes, disk
from .database import connect
from .files import Files
from .folder_lock import hold


class Store:
    """The data folder. `reading` and `writing` give the connection; writes are one transaction each, inner ones too."""

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
            if self._connection.in_transaction:  # a part of a write that is under way
                yield self._connection
                return
            self._connection.execute("BEGIN IMMEDIATE")
            try:
                yield self._connection
                self._connection.execute("COMMIT")
            except BaseException:  # also of a COMMIT that failed, which leaves its transaction open
                if self._connection.in_transaction:
                    self._connection.execute("ROLLBACK")
                raise

    def tidy(self) -> None:
        """Remove what an earlier run left unfinished, and files that nothing names any more."""
        for left in self.files.incoming.iterdir():
            shutil.rmtree(left) if left.is_dir() else left.unlink()
        with self.reading() as connection:
            self.files.keep_only(disk.named(connection))
        with self.writing() as connection:
            bakes.summarise(connection)

    def remove_old(self, days: int) -> None:
        """Remove for good what was deleted so many days ago, by days on which the store was open.

        So one look at a clock that runs ahead removes nothing.
        """
        with self.writing() as connection:
            before = disk.day_seen_before(connection, days)
        self.remove_deleted(before)

    def remove_deleted(self, before: float) -> None:
        """Remove for good what was deleted before a moment, and free its disk at once."""
        with self.writing() as connection:
            gone = disk.remove_deleted(connection, before)
            free = disk.unnamed(connection, gone)
        for digest in free:
            self.files.remove(digest)

    def close(self) -> None:
        with self._lock:
            self._connection.close()
            self._held.close()
