-- Archives that jobs find again are of a branch, and of runs of it that the project trusted, or of others. Of those of
-- before it is known only where everything that was written for the branch was of one that it protects.
CREATE TABLE caches_by_trust (
    project INTEGER NOT NULL REFERENCES projects (id),
    branch TEXT NOT NULL,
    is_trusted INTEGER NOT NULL,
    key TEXT NOT NULL,
    digest BLOB NOT NULL,
    size INTEGER NOT NULL,
    created INTEGER NOT NULL,
    used INTEGER NOT NULL,
    PRIMARY KEY (project, branch, is_trusted, key)
) STRICT, WITHOUT ROWID;
INSERT INTO caches_by_trust (project, branch, is_trusted, key, digest, size, created, used)
    SELECT c.project, c.scope, p.protected = '' AND c.scope IS p.default_branch, c.key, c.digest, c.size, c.created, c.used
    FROM caches c JOIN projects p ON p.id = c.project;
DROP TABLE caches;
ALTER TABLE caches_by_trust RENAME TO caches;
CREATE INDEX caches_by_digest ON caches (digest);

-- Lists of what instructions of recipes made, that runners left in registries: by the digests of their manifests.
CREATE TABLE step_lists (
    project INTEGER NOT NULL REFERENCES projects (id),
    repository TEXT NOT NULL,
    job TEXT NOT NULL,
    is_trusted INTEGER NOT NULL,
    list TEXT NOT NULL,
    PRIMARY KEY (project, repository, job, is_trusted)
) STRICT, WITHOUT ROWID;
