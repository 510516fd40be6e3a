"""Which files the tables name, and how much disk pieces and bakes take."""

import sqlite3
import time
from collections.abc import Iterable

DAY = 86400  # seconds
NAMED = "SELECT copy AS sha256 FROM mesh UNION SELECT sha256 FROM view UNION SELECT sha256 FROM picture"


def named(db: sqlite3.Connection) -> set[str]:
    """Every file that any table names."""
    return {str(row[0]) for row in db.execute(NAMED)}


def unnamed(db: sqlite3.Connection, hashes: Iterable[str]) -> list[str]:
    """Those of some files that no table names."""
    names = []
    for digest in set(hashes):
        row = db.execute(
            "SELECT EXISTS (SELECT 1 FROM mesh WHERE copy = :h) OR EXISTS (SELECT 1 FROM view WHERE sha256 = :h) "
            "OR EXISTS (SELECT 1 FROM picture WHERE sha256 = :h)",
            {"h": digest},
        ).fetchone()
        if not row[0]:
            names.append(digest)
    return names


def of_bakes(db: sqlite3.Connection, bake_ids: Iterable[int]) -> dict[int, set[str]]:
    """The pictures of some bakes, by bake."""
    hashes: dict[int, set[str]] = {}
    for bake_id in bake_ids:
        rows = db.execute("SELECT sha256 FROM picture WHERE bake_id = ?", (bake_id,))
        hashes[bake_id] = {str(row[0]) for row in rows}
    return hashes


def of_piece(db: sqlite3.Connection, piece_id: int) -> dict[str, set[str]]:
    """The files of a piece by what they are: "meshes", "drawings", "proofs", "bakes" and "deleted" bakes."""
    kinds = ("meshes", "drawings", "proofs", "bakes", "deleted")
    hashes: dict[str, set[str]] = {kind: set() for kind in kinds}
    rows = db.execute("SELECT copy FROM mesh WHERE piece_id = ?", (piece_id,))
    hashes["meshes"] = {str(row[0]) for row in rows}
    hashes["drawings"] = {str(row[0]) for row in db.execute("SELECT sha256 FROM view WHERE piece_id = ?", (piece_id,))}
    for row in db.execute(
        "SELECT sha256, proof, deleted FROM picture JOIN bake ON bake.id = bake_id WHERE piece_id = ?", (piece_id,)
    ):
        kind = "deleted" if row["deleted"] is not None else "proofs" if row["proof"] else "bakes"
        hashes[kind].add(str(row["sha256"]))
    return hashes


def deleted_pieces(db: sqlite3.Connection) -> list[sqlite3.Row]:
    """Pieces that can be brought back, the last deleted first: id, name, deleted."""
    return db.execute("SELECT id, name, deleted FROM piece WHERE deleted IS NOT NULL ORDER BY deleted DESC").fetchall()


def deleted_bakes(db: sqlite3.Connection) -> list[sqlite3.Row]:
    """How many bakes of which piece were deleted when, the last first: piece_id, name, deleted, count."""
    return db.execute(
        "SELECT piece.id AS piece_id, piece.name, bake.deleted, count(*) AS count FROM bake "
        "JOIN piece ON piece.id = bake.piece_id WHERE bake.deleted IS NOT NULL AND piece.deleted IS NULL "
        "GROUP BY piece.id, bake.deleted ORDER BY bake.deleted DESC"
    ).fetchall()


def day_seen_before(db: sqlite3.Connection, days: int) -> float:
    """Note today as a day on which the store was open; the moment when the last but so many of these began.

    Long ago where there were fewer. A day that lies ahead of today, which a wrong clock left, does not count.
    """
    today = int(time.time() // DAY)
    db.execute("INSERT OR IGNORE INTO day_seen (day) VALUES (?)", (today,))
    rows = db.execute("SELECT day FROM day_seen WHERE day <= ? ORDER BY day DESC LIMIT ?", (today, days + 1)).fetchall()
    return float(rows[-1]["day"]) * DAY if len(rows) > days else 0.0


def remove_deleted(db: sqlite3.Connection, before: float) -> set[str]:
    """Remove for good what was deleted before a moment; the files that it named."""
    gone: set[str] = set()
    for row in db.execute("SELECT id FROM piece WHERE deleted < ?", (before,)).fetchall():
        for hashes in of_piece(db, row["id"]).values():
            gone |= hashes
        db.execute("DELETE FROM view WHERE piece_id = ?", (row["id"],))
        db.execute("DELETE FROM piece WHERE id = ?", (row["id"],))
    rows = db.execute("SELECT id FROM bake WHERE deleted < ?", (before,)).fetchall()
    for hashes in of_bakes(db, [row["id"] for row in rows]).values():
        gone |= hashes
    db.execute("DELETE FROM bake WHERE deleted < ?", (before,))
    return gone
