-- Files that jobs kept. Their contents are in `files`, by digest (SHA-256).
CREATE TABLE keeps (
    id INTEGER PRIMARY KEY,
    run INTEGER NOT NULL REFERENCES runs (id),
    job TEXT NOT NULL,
    name TEXT NOT NULL,
    made INTEGER NOT NULL,
    until INTEGER NOT NULL,
    UNIQUE (run, job, name)
) STRICT;
CREATE TABLE kept_files (
    keep INTEGER NOT NULL REFERENCES keeps (id) ON DELETE CASCADE,
    path TEXT NOT NULL,
    digest BLOB NOT NULL,
    size INTEGER NOT NULL,
    executable INTEGER NOT NULL,
    -- What a link leads to; its digest is then that of nothing.
    link TEXT,
    PRIMARY KEY (keep, path)
) STRICT, WITHOUT ROWID;
CREATE INDEX kept_files_by_digest ON kept_files (digest);

-- Archives that jobs find again. A scope is a branch: only runs of it write there.
CREATE TABLE caches (
    project INTEGER NOT NULL REFERENCES projects (id),
    scope TEXT NOT NULL,
    key TEXT NOT NULL,
    digest BLOB NOT NULL,
    size INTEGER NOT NULL,
    made INTEGER NOT NULL,
    used INTEGER NOT NULL,
    PRIMARY KEY (project, scope, key)
) STRICT, WITHOUT ROWID;
CREATE INDEX caches_by_digest ON caches (digest);

-- Which tests failed in which job, to tell those that flicker.
CREATE TABLE failed_tests (
    run INTEGER NOT NULL REFERENCES runs (id),
    job TEXT NOT NULL,
    test TEXT NOT NULL,
    PRIMARY KEY (run, job, test)
) STRICT, WITHOUT ROWID;
CREATE TABLE tested_jobs (
    project INTEGER NOT NULL REFERENCES projects (id),
    job TEXT NOT NULL,
    run INTEGER NOT NULL REFERENCES runs (id),
    PRIMARY KEY (project, job, run)
) STRICT, WITHOUT ROWID;
