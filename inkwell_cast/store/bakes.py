"""The table of bakes, finished and not, and the pictures that came out of them."""

import sqlite3
import time
from dataclasses import dataclass

from ..core.manifest import Manifest
from ..core.recipe import Recipe


@dataclass(frozen=True, slots=True)
class BakeRow:
    id: int
    piece_id: int
    state: str
    recipe: Recipe
    meshes: str
    stage: str
    share: float
    message: str
    manifest: Manifest | None
    created: float
    started: float | None
    ended: float | None

    @property
    def open(self) -> bool:
        return self.state in ("waiting", "running")

    @property
    def seconds(self) -> float | None:
        return self.ended - self.started if self.ended and self.started else None

    @property
    def seconds_left(self) -> float | None:
        """From the share done so far; None before there is enough to go by."""
        if self.state != "running" or not self.started or self.share < 0.1:
            return None
        return (time.time() - self.started) * (1 - self.share) / self.share


def _bake(row: sqlite3.Row) -> BakeRow:
    values = dict(row)
    values["recipe"] = Recipe.model_validate_json(row["recipe"])
    values["manifest"] = Manifest.model_validate_json(row["manifest"]) if row["manifest"] else None
    return BakeRow(**values)


def add(db: sqlite3.Connection, piece_id: int, recipe: Recipe, meshes: str) -> int:
    """A bake that waits; `meshes` is the state of the piece's meshes it will use (see `meshes_key`)."""
    cursor = db.execute(
        "INSERT INTO bake (piece_id, state, recipe, meshes, created) VALUES (?, 'waiting', ?, ?, ?)",
        (piece_id, recipe.model_dump_json(), meshes, time.time()),
    )
    return int(cursor.lastrowid or 0)


def get(db: sqlite3.Connection, bake_id: int) -> BakeRow | None:
    row = db.execute("SELECT * FROM bake WHERE id = ?", (bake_id,)).fetchone()
    return _bake(row) if row else None


def of_piece(db: sqlite3.Connection, piece_id: int) -> list[BakeRow]:
    return [_bake(row) for row in db.execute("SELECT * FROM bake WHERE piece_id = ? ORDER BY id DESC", (piece_id,))]


def start(db: sqlite3.Connection, bake_id: int) -> None:
    db.execute("UPDATE bake SET state = 'running', started = ? WHERE id = ?", (time.time(), bake_id))


def tell(db: sqlite3.Connection, bake_id: int, stage: str, share: float) -> None:
    db.execute("UPDATE bake SET stage = ?, share = ? WHERE id = ?", (stage, share, bake_id))


def finish(db: sqlite3.Connection, bake_id: int, manifest: Manifest, pictures: dict[tuple[str, str], str]) -> None:
    """Keep the result; `pictures` are content hashes by sheet and map."""
    db.execute(
        "UPDATE bake SET state = 'done', share = 1, manifest = ?, ended = ? WHERE id = ?",
        (manifest.model_dump_json(), time.time(), bake_id),
    )
    db.executemany(
        "INSERT INTO picture (bake_id, sheet, key, sha256) VALUES (?, ?, ?, ?)",
        [(bake_id, sheet, key, h) for (sheet, key), h in pictures.items()],
    )


def end(db: sqlite3.Connection, bake_id: int, state: str, message: str) -> None:
    db.execute("UPDATE bake SET state = ?, message = ?, ended = ? WHERE id = ?", (state, message, time.time(), bake_id))


def mark_interrupted(db: sqlite3.Connection) -> int:
    """Bakes that an ended server left unfinished; returns how many."""
    cursor = db.execute(
        "UPDATE bake SET state = 'interrupted', message = 'The program ended during this bake. Bake again.', ended = ? "
        "WHERE state IN ('waiting', 'running')",
        (time.time(),),
    )
    return cursor.rowcount


def picture(db: sqlite3.Connection, bake_id: int, sheet: str, key: str) -> str | None:
    row = db.execute(
        "SELECT sha256 FROM picture WHERE bake_id = ? AND sheet = ? AND key = ?", (bake_id, sheet, key)
    ).fetchone()
    return str(row["sha256"]) if row else None
