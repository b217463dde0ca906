-- Values are sealed with the key in the service's folder (`secrets.key`), which is not in the records.
CREATE TABLE secrets (
    project INTEGER NOT NULL REFERENCES projects (id),
    name TEXT NOT NULL,
    sealed BLOB NOT NULL,
    set_at INTEGER NOT NULL,
    set_by TEXT NOT NULL,
    PRIMARY KEY (project, name)
) STRICT, WITHOUT ROWID;
