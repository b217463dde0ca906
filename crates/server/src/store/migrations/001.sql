-- Moments are milliseconds since 1970-01-01T00:00:00Z.

CREATE TABLE settings (
    name TEXT PRIMARY KEY,
    value TEXT NOT NULL
) STRICT, WITHOUT ROWID;

-- Tokens are random and long, so that a plain hash of one cannot be turned back.
CREATE TABLE tokens (
    hash BLOB PRIMARY KEY,
    kind TEXT NOT NULL CHECK (kind IN ('admin', 'runner', 'session')),
    name TEXT NOT NULL,
    created INTEGER NOT NULL,
    expires INTEGER
) STRICT, WITHOUT ROWID;

CREATE TABLE projects (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE,
    repository TEXT NOT NULL,
    hook_secret TEXT NOT NULL,
    added INTEGER NOT NULL,
    seen INTEGER,
    note TEXT,
    faulty INTEGER NOT NULL DEFAULT 0,
    next_number INTEGER NOT NULL DEFAULT 1
) STRICT;

CREATE TABLE branches (
    project INTEGER NOT NULL REFERENCES projects (id),
    name TEXT NOT NULL,
    commit_id TEXT NOT NULL,
    PRIMARY KEY (project, name)
) STRICT, WITHOUT ROWID;

CREATE TABLE runs (
    id INTEGER PRIMARY KEY,
    project INTEGER NOT NULL REFERENCES projects (id),
    number INTEGER NOT NULL,
    start TEXT NOT NULL,
    branch TEXT NOT NULL,
    commit_id TEXT NOT NULL,
    commit_time INTEGER NOT NULL,
    title TEXT NOT NULL,
    author TEXT NOT NULL,
    -- The pipeline as it was read, and the faults that it had; JSON.
    pipeline TEXT NOT NULL,
    faults TEXT NOT NULL,
    -- What lists show, kept by the events' writer.
    state TEXT NOT NULL,
    note TEXT,
    created INTEGER NOT NULL,
    started INTEGER,
    ended INTEGER,
    UNIQUE (project, number)
) STRICT;

-- A run is what its events make of it. `version` is that of the body's form.
CREATE TABLE events (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    run INTEGER NOT NULL REFERENCES runs (id),
    at INTEGER NOT NULL,
    version INTEGER NOT NULL,
    body TEXT NOT NULL
) STRICT;
CREATE INDEX events_of_run ON events (run, id);
CREATE INDEX runs_going_on ON runs (state) WHERE state IN ('queued', 'waiting', 'running');

-- Who has which job. Gone when the job has ended.
CREATE TABLE leases (
    hash BLOB PRIMARY KEY,
    run INTEGER NOT NULL REFERENCES runs (id),
    job TEXT NOT NULL,
    runner TEXT NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE environments (
    name TEXT PRIMARY KEY,
    kubeconfig TEXT NOT NULL,
    namespace TEXT NOT NULL,
    address TEXT
) STRICT, WITHOUT ROWID;

CREATE TABLE registries (
    host TEXT PRIMARY KEY,
    address TEXT NOT NULL
) STRICT, WITHOUT ROWID;
