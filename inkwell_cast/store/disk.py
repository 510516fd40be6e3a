"""Which files the tables name, and how much disk pieces and bakes take."""

import sqlite3
import time
from collections.abc import Iterable

DAY = 86400  # seconds
KINDS = ("meshes", "drawings", "proofs", "bakes", "deleted")
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
    return of_pieces(db, [piece_id], "WHERE piece_id = :id", piece_id)[piece_id]


def of_pieces(
    db: sqlite3.Connection, piece_ids: Iterable[int], where: str = "", only: int = 0
) -> dict[int, dict[str, set[str]]]:
    """The files of pieces by what they are, see `of_piece`; in three queries, however many pieces there are."""
    hashes: dict[int, dict[str, set[str]]] = {piece_id: {kind: set() for kind in KINDS} for piece_id in piece_ids}
    queries = (
        "SELECT piece_id, copy, 'meshes' FROM mesh",
        "SELECT piece_id, sha256, 'drawings' FROM view",
        "SELECT piece_id, sha256, CASE WHEN deleted IS NOT NULL THEN 'deleted' WHEN proof THEN 'proofs' "
        "ELSE 'bakes' END FROM picture JOIN bake ON bake.id = bake_id",
    )
    for query in queries:
        for piece_id, digest, kind in db.execute(f"{query} {where}", {"id": only}):
            if piece_id in hashes:
                hashes[piece_id][kind].add(digest)
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
