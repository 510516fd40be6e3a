-- A piece and everything that belongs to it. Times are seconds since 1970; settings are JSON.
CREATE TABLE piece (
    id       INTEGER PRIMARY KEY,
    name     TEXT NOT NULL,
    step     INTEGER NOT NULL DEFAULT 0, -- where in its changes the piece stands
    created  REAL NOT NULL
) STRICT;

-- The settings after each change, oldest first; undo and redo move piece.step along them.
CREATE TABLE change (
    piece_id  INTEGER NOT NULL REFERENCES piece (id) ON DELETE CASCADE,
    step      INTEGER NOT NULL,
    recipe    TEXT NOT NULL,
    words     TEXT NOT NULL,
    created   REAL NOT NULL,
    PRIMARY KEY (piece_id, step)
) STRICT;

-- A file of a piece. copy is what the piece works with; place is where the original lies, if the server can see it.
CREATE TABLE mesh (
    id         INTEGER PRIMARY KEY,
    piece_id   INTEGER NOT NULL REFERENCES piece (id) ON DELETE CASCADE,
    file_name  TEXT NOT NULL,
    sha256     TEXT NOT NULL,
    copy       TEXT NOT NULL,
    size       INTEGER NOT NULL,
    facts      TEXT NOT NULL,
    place      TEXT NOT NULL DEFAULT '',
    modified   REAL NOT NULL DEFAULT 0,
    watched    INTEGER NOT NULL DEFAULT 0 CHECK (watched IN (0, 1)),
    UNIQUE (piece_id, file_name)
) STRICT;

-- What the browser draws, by a key of all that it depends on.
CREATE TABLE view (
    key     TEXT PRIMARY KEY,
    sha256  TEXT NOT NULL,
    used    REAL NOT NULL
) STRICT;

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
    sheet    TEXT NOT NULL,
    key      TEXT NOT NULL,
    sha256   TEXT NOT NULL,
    PRIMARY KEY (bake_id, sheet, key)
) STRICT;
