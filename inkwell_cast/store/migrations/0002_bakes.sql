-- A name that the user gave a bake; whether it is a proof; and the mend that it tries out, as JSON, "" for bakes of the
-- piece as it was set.
ALTER TABLE bake ADD COLUMN name TEXT NOT NULL DEFAULT '';
ALTER TABLE bake ADD COLUMN proof INTEGER NOT NULL DEFAULT 0 CHECK (proof IN (0, 1));
ALTER TABLE bake ADD COLUMN trial TEXT NOT NULL DEFAULT '';
