-- Values are sealed with data keys, one for each project and one for the server; these are wrapped with the master key,
-- which is not in the records.
CREATE TABLE data_keys (
    -- In front of every value that is sealed with it; never that of another one.
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    owner TEXT NOT NULL,
    wrapped BLOB NOT NULL,
    -- The id of the master key, and since when.
    wrapped_by TEXT NOT NULL,
    wrapped_at INTEGER NOT NULL
) STRICT;

-- What hooks show, and what signs in at a project's repository, are secrets, too.
ALTER TABLE projects ADD COLUMN hook BLOB;
ALTER TABLE projects ADD COLUMN credential BLOB;
