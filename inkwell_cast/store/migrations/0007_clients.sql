-- Programs that may use the API. A token is shown once; only its SHA-256 is kept.
CREATE TABLE client (
    id        INTEGER PRIMARY KEY,
    name      TEXT NOT NULL UNIQUE COLLATE NOCASE,
    digest    TEXT NOT NULL UNIQUE,
    created   REAL NOT NULL,
    used      REAL
) STRICT;
