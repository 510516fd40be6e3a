-- Whether a bake is the proof that is renewed whenever its piece changes: 1, of which a piece has one at most; 2 for the one
-- before, whose pictures pages may still fetch.
ALTER TABLE bake ADD COLUMN live INTEGER NOT NULL DEFAULT 0 CHECK (live IN (0, 1, 2));
