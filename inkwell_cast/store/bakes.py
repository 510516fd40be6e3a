"""The table of bakes, finished and not, and the pictures that came out of them."""

import sqlite3
import time
from dataclasses import dataclass

from ..core.local_settings import Mend
from ..core.manifest import Manifest
from ..core.recipe import Recipe


@dataclass(frozen=True, slots=True)
class BakeRow:
    """A bake; `trial` is the mend that it tries out, beyond the settings of its piece."""

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
    name: str = ""
    proof: bool = False
    trial: Mend | None = None

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
    values["proof"] = bool(row["proof"])
    values["trial"] = Mend.model_validate_json(row["trial"]) if row["trial"] else None
    return BakeRow(**values)


def add(
    db: sqlite3.Connection, piece_id: int, recipe: Recipe, meshes: str, proof: bool = False, trial: Mend | None = None
) -> int:  # fmt: skip
    """A bake that waits; `meshes` is the state of the piece's meshes it will use (see `meshes_key`)."""
    cursor = db.execute(
        "INSERT INTO bake (piece_id, state, recipe, meshes, created, proof, trial) "
        "VALUES (?, 'waiting', ?, ?, ?, ?, ?)",
        (piece_id, recipe.model_dump_json(), meshes, time.time(), proof, trial.model_dump_json() if trial else ""),
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
    """Keep the result; `pictures` are content hashes by sheet and map. One that mended on its way has new settings."""
    db.execute(
        "UPDATE bake SET state = 'done', share = 1, manifest = ?, ended = ? WHERE id = ?",
        (manifest.model_dump_json(), time.time(), bake_id),
    )
    if manifest.mending:
        db.execute("UPDATE bake SET recipe = ? WHERE id = ?", (manifest.recipe.model_dump_json(), bake_id))
    db.executemany(
        "INSERT INTO picture (bake_id, sheet, key, sha256) VALUES (?, ?, ?, ?)",
        [(bake_id, sheet, key, h) for (sheet, key), h in pictures.items()],
    )


def end(db: sqlite3.Connection, bake_id: int, state: str, message: str) -> None:
    db.execute("UPDATE bake SET state = ?, message = ?, ended = ? WHERE id = ?", (state, message, time.time(), bake_id))


def date(
    db: sqlite3.Connection, bake_id: int, name: str, created: float, started: float | None, ended: float | None
) -> None:  # fmt: skip
    """Name and times of a bake that was made elsewhere."""
    db.execute(
        "UPDATE bake SET name = ?, created = ?, started = ?, ended = ? WHERE id = ?",
        (name, created, started, ended, bake_id),
    )


def pictures_of(db: sqlite3.Connection, bake_id: int) -> dict[tuple[str, str], str]:
    """Content hashes of a bake's pictures by sheet and map."""
    rows = db.execute("SELECT sheet, key, sha256 FROM picture WHERE bake_id = ?", (bake_id,))
    return {(row["sheet"], row["key"]): row["sha256"] for row in rows}


def rename(db: sqlite3.Connection, bake_id: int, name: str) -> None:
    db.execute("UPDATE bake SET name = ? WHERE id = ?", (name, bake_id))


def keep_trial(db: sqlite3.Connection, bake_id: int) -> None:
    """What a bake tried out has become a setting of its piece."""
    db.execute("UPDATE bake SET trial = '' WHERE id = ?", (bake_id,))


def delete(db: sqlite3.Connection, bake_id: int) -> list[str]:
    """Forget a bake; the hashes of those of its pictures that nothing else names."""
    rows = db.execute(
        "SELECT DISTINCT sha256 FROM picture WHERE bake_id = :id AND sha256 NOT IN "
        "(SELECT sha256 FROM picture WHERE bake_id != :id UNION SELECT copy FROM mesh UNION SELECT sha256 FROM view)",
        {"id": bake_id},
    ).fetchall()
    db.execute("DELETE FROM bake WHERE id = ?", (bake_id,))
    return [str(row["sha256"]) for row in rows]


def hashes_of(db: sqlite3.Connection, piece_id: int) -> dict[int, set[str]]:
    """The pictures of each bake of a piece, by content hash."""
    found: dict[int, set[str]] = {}
    rows = db.execute(
        "SELECT bake_id, sha256 FROM picture JOIN bake ON bake.id = bake_id WHERE piece_id = ?", (piece_id,)
    )
    for row in rows:
        found.setdefault(row["bake_id"], set()).add(row["sha256"])
    return found


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
