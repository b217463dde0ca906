-- Runners, each with a token of its own, and what each may work for. Until now all had one, and said that themselves.
CREATE TABLE runners (
    name TEXT PRIMARY KEY,
    pool TEXT NOT NULL,
    -- Separated by spaces; all, where there are none.
    projects TEXT NOT NULL,
    -- The programs that it is believed to have, separated by spaces; all that it says, where there are none.
    tools TEXT NOT NULL,
    added INTEGER NOT NULL,
    by TEXT NOT NULL
) STRICT, WITHOUT ROWID;
DELETE FROM tokens WHERE kind = 'runner';

-- Tokens with which machines make themselves runners.
CREATE TABLE invitations (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    hash BLOB NOT NULL UNIQUE,
    pool TEXT NOT NULL,
    projects TEXT NOT NULL,
    tools TEXT NOT NULL,
    machines INTEGER NOT NULL,
    expires INTEGER NOT NULL,
    by TEXT NOT NULL
) STRICT;
