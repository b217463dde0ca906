-- What starts made of pipelines. Most runs of a project share one.
CREATE TABLE plans (
    id INTEGER PRIMARY KEY,
    hash BLOB NOT NULL UNIQUE,
    body TEXT NOT NULL
) STRICT;

-- Runs from before have none: theirs is made of `pipeline`.
ALTER TABLE runs ADD COLUMN plan INTEGER REFERENCES plans (id);
-- The tag that started it; its branch is then empty.
ALTER TABLE runs ADD COLUMN tag TEXT;
-- What was said to each `ask`; JSON.
ALTER TABLE runs ADD COLUMN inputs TEXT NOT NULL DEFAULT '{}';

-- How much of the runners a project may use.
ALTER TABLE projects ADD COLUMN weight INTEGER NOT NULL DEFAULT 1;
ALTER TABLE projects ADD COLUMN cap INTEGER;

-- How many jobs may run at once in a pool.
CREATE TABLE pools (
    name TEXT PRIMARY KEY,
    cap INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE tags (
    project INTEGER NOT NULL REFERENCES projects (id),
    name TEXT NOT NULL,
    commit_id TEXT NOT NULL,
    PRIMARY KEY (project, name)
) STRICT, WITHOUT ROWID;

-- The schedules in the pipeline of each branch's newest commit, and when each comes next.
CREATE TABLE clocks (
    project INTEGER NOT NULL REFERENCES projects (id),
    branch TEXT NOT NULL,
    schedule TEXT NOT NULL,
    zone TEXT NOT NULL,
    next INTEGER NOT NULL,
    PRIMARY KEY (project, branch, schedule, zone)
) STRICT, WITHOUT ROWID;
CREATE INDEX clocks_by_next ON clocks (next);
