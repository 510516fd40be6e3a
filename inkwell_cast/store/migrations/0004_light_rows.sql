-- What is large of a bake lies apart, so that lists of bakes are read without it. summary is JSON, "" until one is made.
CREATE TABLE bake_contents (
    bake_id   INTEGER PRIMARY KEY REFERENCES bake (id) ON DELETE CASCADE,
    recipe    TEXT NOT NULL,
    manifest  TEXT
) STRICT;
INSERT INTO bake_contents (bake_id, recipe, manifest) SELECT id, recipe, manifest FROM bake;
ALTER TABLE bake DROP COLUMN recipe;
ALTER TABLE bake DROP COLUMN manifest;
ALTER TABLE bake ADD COLUMN summary TEXT NOT NULL DEFAULT '';

-- When something was deleted; it can be brought back until it is removed for good.
ALTER TABLE piece ADD COLUMN deleted REAL;
ALTER TABLE bake ADD COLUMN deleted REAL;

CREATE INDEX picture_file ON picture (sha256);
CREATE INDEX mesh_copy ON mesh (copy);
CREATE INDEX view_file ON view (sha256);

-- The piece that a view was drawn of, so that it goes with it; 0 for those of before.
ALTER TABLE view ADD COLUMN piece_id INTEGER NOT NULL DEFAULT 0;
