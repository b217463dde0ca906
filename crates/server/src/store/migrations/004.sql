-- The run that this one does again.
ALTER TABLE runs ADD COLUMN rerun_of INTEGER REFERENCES runs (id);
-- Where the files are of a run that tries what is not committed: a name in `tries`.
ALTER TABLE runs ADD COLUMN files TEXT;
-- Whether runs that try something may roll out there.
ALTER TABLE environments ADD COLUMN takes_tries INTEGER NOT NULL DEFAULT 0;
