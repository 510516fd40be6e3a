-- Sets of maps that the user keeps to choose them together.
CREATE TABLE map_set (name TEXT PRIMARY KEY COLLATE NOCASE, maps TEXT NOT NULL);
