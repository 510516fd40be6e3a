"""The states of a piece's settings, one after the other: written, undone and done again."""

import json
import sqlite3
import time
from functools import lru_cache

from pydantic import ValidationError

from ..core.settings.other_versions import as_far_as_known
from ..core.settings.recipe import Recipe

MOST_CHANGES = 300
KEPT = 64  # settings that were read lately


@lru_cache(maxsize=KEPT)
def recipe_in(text: str) -> tuple[Recipe, str]:
    """Settings from their JSON as far as this version knows them, and in words what it does not; "" for nothing.

    Settings are never changed in place, so the last ones are kept: a piece of ten thousand pockets is read at once.
    """
    try:
        return Recipe.model_validate_json(text), ""
    except ValidationError:
        return as_far_as_known(Recipe, json.loads(text))


def write(db: sqlite3.Connection, piece_id: int, step: int, recipe: Recipe, words: str) -> None:
    db.execute(
        "INSERT INTO change (piece_id, step, recipe, words, created) VALUES (?, ?, ?, ?, ?)",
        (piece_id, step, recipe.model_dump_json(), words, time.time()),
    )


def set_recipe(db: sqlite3.Connection, piece_id: int, recipe: Recipe, words: str = "Settings") -> None:
    """Make `recipe` the piece's settings; what had been undone is forgotten."""
    row = db.execute("SELECT step FROM piece WHERE id = ?", (piece_id,)).fetchone()
    if row is None:
        return
    step = row["step"] + 1
    db.execute("DELETE FROM change WHERE piece_id = ? AND step >= ?", (piece_id, step))
    db.execute("DELETE FROM change WHERE piece_id = ? AND step < ?", (piece_id, step - MOST_CHANGES))
    write(db, piece_id, step, recipe, words)
    db.execute("UPDATE piece SET step = ? WHERE id = ?", (step, piece_id))


def move(db: sqlite3.Connection, piece_id: int, steps: int) -> bool:
    """Go back (-1) or forth (1) along the changes; whether there was one to go to."""
    cursor = db.execute(
        "UPDATE piece SET step = step + :by WHERE id = :id AND EXISTS "
        "(SELECT 1 FROM change WHERE piece_id = :id AND change.step = piece.step + :by)",
        {"by": steps, "id": piece_id},
    )
    return cursor.rowcount == 1


def listed(db: sqlite3.Connection, piece_id: int, most: int) -> list[tuple[int, str]]:
    """The states of a piece by step, the newest first, each with the words of the change that led to it."""
    rows = db.execute("SELECT step, words FROM change WHERE piece_id = ? ORDER BY step DESC LIMIT ?", (piece_id, most))
    return [(int(row["step"]), str(row["words"])) for row in rows]


def recipe_at(db: sqlite3.Connection, piece_id: int, step: int) -> Recipe | None:
    """The settings after a change; None for one that is forgotten."""
    row = db.execute("SELECT recipe FROM change WHERE piece_id = ? AND step = ?", (piece_id, step)).fetchone()
    return recipe_in(row["recipe"])[0] if row else None
