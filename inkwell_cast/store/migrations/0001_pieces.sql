-- A piece and everything that belongs to it. Times are seconds since 1970; settings are JSON.
CREATE TABLE piece (
    id       INTEGER PRIMARY KEY,
    name     TEXT NOT NULL,
    recipe   TEXT NOT NULL,
    created  REAL NOT NULL
) STRICT;

CREATE TABLE mesh (
    id         INTEGER PRIMARY KEY,
    piece_id   INTEGER NOT NULL REFERENCES piece (id) ON DELETE CASCADE,
    role       TEXT NOT NULL CHECK (role IN ('low', 'high')),
    file_name  TEXT NOT NULL,
    sha256     TEXT NOT NULL,
    size       INTEGER NOT NULL,
    triangles  INTEGER NOT NULL,
    vertices   INTEGER NOT NULL,
    objects    INTEGER NOT NULL,
    materials  INTEGER NOT NULL,
    diagonal   REAL NOT NULL,
    view       TEXT NOT NULL
) STRICT;
CREATE INDEX mesh_of_piece ON mesh (piece_id);

CREATE TABLE bake (
    id         INTEGER PRIMARY KEY,
    piece_id   INTEGER NOT NULL REFERENCES piece (id) ON DELETE CASCADE,
    state      TEXT NOT NULL CHECK (state IN ('waiting', 'running', 'done', 'failed', 'cancelled', 'interrupted')),
    recipe     TEXT NOT NULL,
    meshes     TEXT NOT NULL,
    stage      TEXT NOT NULL DEFAULT '',
    share      REAL NOT NULL DEFAULT 0,
    message    TEXT NOT NULL DEFAULT '',
    manifest   TEXT,
    created    REAL NOT NULL,
    started    REAL,
    ended      REAL
) STRICT;
CREATE INDEX bake_of_piece ON bake (piece_id);

CREATE TABLE picture (
    bake_id  INTEGER NOT NULL REFERENCES bake (id) ON DELETE CASCADE,
    key      TEXT NOT NULL,
    sha256   TEXT NOT NULL,
    PRIMARY KEY (bake_id, key)
) STRICT;
