"""The table of pieces."""

import sqlite3
import time
from dataclasses import dataclass

from ..core.recipe import Recipe


@dataclass(frozen=True, slots=True)
class Piece:
    id: int
    name: str
    recipe: Recipe
    created: float


def _piece(row: sqlite3.Row) -> Piece:
    return Piece(row["id"], row["name"], Recipe.model_validate_json(row["recipe"]), row["created"])


def add(db: sqlite3.Connection, name: str, recipe: Recipe) -> int:
    cursor = db.execute(
        "INSERT INTO piece (name, recipe, created) VALUES (?, ?, ?)", (name, recipe.model_dump_json(), time.time())
    )
    return int(cursor.lastrowid or 0)


def all_of(db: sqlite3.Connection) -> list[Piece]:
    return [_piece(row) for row in db.execute("SELECT * FROM piece ORDER BY created DESC, id DESC")]


def get(db: sqlite3.Connection, piece_id: int) -> Piece | None:
    row = db.execute("SELECT * FROM piece WHERE id = ?", (piece_id,)).fetchone()
    return _piece(row) if row else None


def set_recipe(db: sqlite3.Connection, piece_id: int, recipe: Recipe) -> None:
    db.execute("UPDATE piece SET recipe = ? WHERE id = ?", (recipe.model_dump_json(), piece_id))


def rename(db: sqlite3.Connection, piece_id: int, name: str) -> None:
    db.execute("UPDATE piece SET name = ? WHERE id = ?", (name, piece_id))


def delete(db: sqlite3.Connection, piece_id: int) -> None:
    db.execute("DELETE FROM piece WHERE id = ?", (piece_id,))
