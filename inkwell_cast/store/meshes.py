"""The table of mesh files: what each piece was given, and the light form that the views draw."""

import sqlite3
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class MeshRow:
    id: int
    piece_id: int
    role: str
    file_name: str
    sha256: str
    size: int
    triangles: int
    vertices: int
    objects: int
    materials: int
    diagonal: float
    view: str


_FIELDS = (
    "piece_id",
    "role",
    "file_name",
    "sha256",
    "size",
    "triangles",
    "vertices",
    "objects",
    "materials",
    "diagonal",
    "view",
)


def add(db: sqlite3.Connection, **values: object) -> int:
    marks = ", ".join("?" * len(_FIELDS))
    cursor = db.execute(f"INSERT INTO mesh ({', '.join(_FIELDS)}) VALUES ({marks})", [values[f] for f in _FIELDS])
    return int(cursor.lastrowid or 0)


def of_piece(db: sqlite3.Connection, piece_id: int) -> list[MeshRow]:
    rows = db.execute("SELECT * FROM mesh WHERE piece_id = ? ORDER BY role DESC, id", (piece_id,))
    return [MeshRow(**dict(row)) for row in rows]


def get(db: sqlite3.Connection, mesh_id: int) -> MeshRow | None:
    row = db.execute("SELECT * FROM mesh WHERE id = ?", (mesh_id,)).fetchone()
    return MeshRow(**dict(row)) if row else None


def set_role(db: sqlite3.Connection, mesh_id: int, role: str) -> None:
    db.execute("UPDATE mesh SET role = ? WHERE id = ?", (role, mesh_id))


def delete(db: sqlite3.Connection, mesh_id: int) -> None:
    db.execute("DELETE FROM mesh WHERE id = ?", (mesh_id,))
