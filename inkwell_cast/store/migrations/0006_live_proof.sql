-- Whether a bake is the proof that is renewed whenever its piece changes; a piece has one at most.
ALTER TABLE bake ADD COLUMN live INTEGER NOT NULL DEFAULT 0 CHECK (live IN (0, 1));
