"""The tables of pieces and of the changes to their settings."""

import sqlite3
import time
from dataclasses import dataclass, field

from ..core.settings.recipe import Recipe
from .undo import recipe_in, write


@dataclass(frozen=True, slots=True)
class StoredPiece:
    """A piece as it stands; `undo` and `redo` say in words what one step back or forth would change, "" for nothing.

    `step` numbers the state of its settings. Where this version does not know them all, or some are out of range,
    `recipe` are those that it can use, and `problem` says what it cannot. `read` says when it was read, microseconds of
    a clock that never goes back: of two states of a piece the one with the larger is the newer, undone or not.
    """

    id: int
    name: str
    recipe: Recipe
    created: float
    undo: str = ""
    redo: str = ""
    step: int = 0
    problem: str = ""
    read: int = field(default_factory=lambda: time.monotonic_ns() // 1000)


_SELECT = """
SELECT piece.id, piece.name, piece.created, piece.step, here.recipe, here.words AS undo, next.words AS redo,
       EXISTS (SELECT 1 FROM change WHERE piece_id = piece.id AND step = piece.step - 1) AS has_undo
FROM piece
JOIN change AS here ON here.piece_id = piece.id AND here.step = piece.step
LEFT JOIN change AS next ON next.piece_id = piece.id AND next.step = piece.step + 1
"""


def _piece(row: sqlite3.Row) -> StoredPiece:
    recipe, problem = recipe_in(row["recipe"])
    return StoredPiece(
        row["id"],
        row["name"],
        recipe,
        row["created"],
        row["undo"] if row["has_undo"] else "",
        row["redo"] or "",
        row["step"],
        problem,
    )


def add(db: sqlite3.Connection, name: str, recipe: Recipe) -> int:
    cursor = db.execute("INSERT INTO piece (name, created) VALUES (?, ?)", (name, time.time()))
    piece_id = int(cursor.lastrowid or 0)
    write(db, piece_id, 0, recipe, "")
    return piece_id


ORDERS = {"newest": "piece.created DESC, piece.id DESC", "name": "piece.name COLLATE NOCASE, piece.id"}


def all_of(
    db: sqlite3.Connection, search: str = "", order: str = "newest", most: int = -1, skip: int = 0
) -> list[StoredPiece]:
    """The pieces on the shelf whose names hold some words, `most` of them from the one of a number on; -1 for all."""
    rows = db.execute(
        f"{_SELECT} WHERE {_ON_SHELF} ORDER BY {ORDERS.get(order, ORDERS['newest'])} LIMIT :most OFFSET :skip",
        {"like": _like(search), "most": most, "skip": skip},
    )
    return [_piece(row) for row in rows]


def names(db: sqlite3.Connection, search: str = "") -> dict[int, str]:
    """Names of the pieces on the shelf by their numbers, without their settings."""
    rows = db.execute(f"SELECT id, name FROM piece WHERE {_ON_SHELF}", {"like": _like(search)})
    return {int(row["id"]): str(row["name"]) for row in rows}


_ON_SHELF = "piece.deleted IS NULL AND piece.name LIKE :like ESCAPE '\\'"


def _like(search: str) -> str:
    escaped = "".join(f"\\{c}" if c in "\\%_" else c for c in search.strip())
    return f"%{escaped}%"


def get(db: sqlite3.Connection, piece_id: int) -> StoredPiece | None:
    row = db.execute(f"{_SELECT} WHERE piece.id = ? AND piece.deleted IS NULL", (piece_id,)).fetchone()
    return _piece(row) if row else None


def rename(db: sqlite3.Connection, piece_id: int, name: str) -> None:
    db.execute("UPDATE piece SET name = ? WHERE id = ?", (name, piece_id))


def delete(db: sqlite3.Connection, piece_id: int) -> None:
    """Put a piece aside; it can be brought back."""
    db.execute("UPDATE piece SET deleted = ? WHERE id = ?", (time.time(), piece_id))


def bring_back(db: sqlite3.Connection, piece_id: int) -> bool:
    """Put a deleted piece on the shelf again; whether there was one."""
    cursor = db.execute("UPDATE piece SET deleted = NULL WHERE id = ? AND deleted IS NOT NULL", (piece_id,))
    return cursor.rowcount == 1
