-- Secrets for all projects (`*`), and for stages that go to an environment (`environment:NAME`).
CREATE TABLE shared_secrets (
    scope TEXT NOT NULL,
    name TEXT NOT NULL,
    sealed BLOB NOT NULL,
    set_at INTEGER NOT NULL,
    set_by TEXT NOT NULL,
    protected INTEGER NOT NULL,
    used_at INTEGER,
    used_by TEXT,
    PRIMARY KEY (scope, name)
) STRICT, WITHOUT ROWID;

-- When a secret was given to a job last, and of which run.
ALTER TABLE secrets ADD COLUMN used_at INTEGER;
ALTER TABLE secrets ADD COLUMN used_by TEXT;
