-- Whether its project protected the branch or tag, and the commit was in it, when the run was made. Of runs of earlier
-- versions that is not known, and they are not trusted.
ALTER TABLE runs ADD COLUMN was_trusted INTEGER NOT NULL DEFAULT 0;
