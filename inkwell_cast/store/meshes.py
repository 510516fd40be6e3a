"""The table of mesh files: what each piece was given."""

import sqlite3
from dataclasses import dataclass

from pydantic import BaseModel


class PartRow(BaseModel):
    """One object of a file; bounds are lowest and highest corner in scene units, `uvs` a hash of its first channel."""

    name: str
    triangles: int
    bounds: tuple[tuple[float, ...], tuple[float, ...]]
    uvs: str


class Facts(BaseModel):
    """What is known of a file without opening it."""

    triangles: int
    vertices: int
    parts: list[PartRow]
    materials: list[str]
    channels: int
    diagonal: float
    colors: bool = True  # whether it has vertex colours; not known of files that were read before it was asked


@dataclass(frozen=True, slots=True)
class MeshRow:
    id: int
    piece_id: int
    file_name: str
    sha256: str
    copy: str
    size: int
    facts: Facts
    place: str
    modified: float
    watched: bool


def _mesh(row: sqlite3.Row) -> MeshRow:
    values = dict(row)
    values["facts"] = Facts.model_validate_json(row["facts"])
    values["watched"] = bool(row["watched"])
    return MeshRow(**values)


def put(
    db: sqlite3.Connection,
    piece_id: int,
    file_name: str,
    sha256: str,
    copy: str,
    size: int,
    facts: Facts,
    place: str = "",
    modified: float = 0.0,
) -> None:
    """Add a file, or put new contents in the place of the one of that name.

    One that was read from a place on this machine is watched there from the start.
    """
    db.execute(
        "INSERT INTO mesh (piece_id, file_name, sha256, copy, size, facts, place, modified, watched) "
        "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (piece_id, file_name) DO UPDATE SET sha256 = excluded.sha256, "
        "copy = excluded.copy, size = excluded.size, facts = excluded.facts, modified = excluded.modified, "
        "watched = CASE WHEN place = '' THEN excluded.watched ELSE watched END, "
        "place = CASE WHEN excluded.place = '' THEN place ELSE excluded.place END",
        (piece_id, file_name, sha256, copy, size, facts.model_dump_json(), place, modified, int(bool(place))),
    )


def of_piece(db: sqlite3.Connection, piece_id: int) -> list[MeshRow]:
    return [_mesh(row) for row in db.execute("SELECT * FROM mesh WHERE piece_id = ? ORDER BY id", (piece_id,))]


def pieces_with(db: sqlite3.Connection, piece_id: int) -> list[int]:
    """The pieces that have a file of the same content as one of a piece has, itself among them."""
    rows = db.execute(
        "SELECT DISTINCT other.piece_id FROM mesh AS own JOIN mesh AS other ON other.copy = own.copy "
        "WHERE own.piece_id = ? ORDER BY other.piece_id",
        (piece_id,),
    )
    return [int(row[0]) for row in rows]


def watched(db: sqlite3.Connection) -> list[MeshRow]:
    return [_mesh(row) for row in db.execute("SELECT * FROM mesh WHERE watched = 1 AND place != ''")]


def set_place(db: sqlite3.Connection, mesh_id: int, place: str, watch: bool) -> None:
    db.execute("UPDATE mesh SET place = ?, watched = ? WHERE id = ?", (place, int(watch and bool(place)), mesh_id))


def set_modified(db: sqlite3.Connection, mesh_id: int, modified: float) -> None:
    """Note that a file was written again with what it held."""
    db.execute("UPDATE mesh SET modified = ? WHERE id = ?", (modified, mesh_id))


def delete(db: sqlite3.Connection, mesh_id: int) -> None:
    db.execute("DELETE FROM mesh WHERE id = ?", (mesh_id,))
