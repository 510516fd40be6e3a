-- A bake whose maps are there while it is still judged: done, and marked here until its figures come.
ALTER TABLE bake ADD COLUMN judging INTEGER NOT NULL DEFAULT 0;
