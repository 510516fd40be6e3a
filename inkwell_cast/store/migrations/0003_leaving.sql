-- Receivers of the user's own, as JSON.
CREATE TABLE receiver (
    name      TEXT PRIMARY KEY COLLATE NOCASE,
    receiver  TEXT NOT NULL,
    created   REAL NOT NULL
) STRICT;

-- Handoffs that were written to a folder or an archive of this machine.
CREATE TABLE handoff (
    id        INTEGER PRIMARY KEY,
    piece_id  INTEGER NOT NULL REFERENCES piece (id) ON DELETE CASCADE,
    bake_id   INTEGER NOT NULL,
    place     TEXT NOT NULL,
    receiver  TEXT NOT NULL,
    files     INTEGER NOT NULL,
    created   REAL NOT NULL
) STRICT;

-- Pieces that were baked and handed off together. summary is JSON; a batch is at work while ended is NULL.
CREATE TABLE batch (
    id        INTEGER PRIMARY KEY,
    place     TEXT NOT NULL,
    summary   TEXT NOT NULL,
    created   REAL NOT NULL,
    ended     REAL,
    message   TEXT NOT NULL DEFAULT ''
) STRICT;
