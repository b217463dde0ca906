-- The groups that the person of a token is of, separated by spaces; and which token a session was made with.
ALTER TABLE tokens ADD COLUMN groups TEXT NOT NULL DEFAULT '';
