-- How much of what all share a project may have (JSON), by its name; `*` is of all that say nothing themselves.
CREATE TABLE quotas (
    project TEXT PRIMARY KEY,
    quota TEXT NOT NULL
) STRICT, WITHOUT ROWID;

-- How long the jobs of a project took, by day since 1970-01-01 in UTC.
CREATE TABLE job_time (
    project INTEGER NOT NULL REFERENCES projects (id) ON DELETE CASCADE,
    day INTEGER NOT NULL,
    millis INTEGER NOT NULL,
    PRIMARY KEY (project, day)
) STRICT, WITHOUT ROWID;
