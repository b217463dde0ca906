-- What each image job of a branch built last, and on what. Runs that try something do not count.
CREATE TABLE images (
    project INTEGER NOT NULL REFERENCES projects (id),
    branch TEXT NOT NULL,
    job TEXT NOT NULL,
    repository TEXT NOT NULL,
    digest TEXT NOT NULL,
    run INTEGER NOT NULL REFERENCES runs (id),
    base TEXT,
    base_digest TEXT,
    PRIMARY KEY (project, branch, job, repository)
) STRICT, WITHOUT ROWID;
CREATE INDEX images_by_base ON images (base);

-- What the name of a base image was last seen to mean.
CREATE TABLE bases (
    name TEXT PRIMARY KEY,
    digest TEXT NOT NULL
) STRICT, WITHOUT ROWID;

-- Branches whose base has moved, and that were not looked at since.
CREATE TABLE base_starts (
    project INTEGER NOT NULL REFERENCES projects (id),
    branch TEXT NOT NULL,
    base TEXT NOT NULL,
    PRIMARY KEY (project, branch)
) STRICT, WITHOUT ROWID;
