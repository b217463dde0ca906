-- How long runs are kept, and what hangs on them; the body is JSON. A rule without a project is for all.
CREATE TABLE retention_rules (
    id INTEGER PRIMARY KEY,
    project INTEGER REFERENCES projects (id),
    branch TEXT,
    body TEXT NOT NULL
) STRICT;
CREATE UNIQUE INDEX retention_rules_of ON retention_rules (coalesce(project, 0), coalesce(branch, ''));

-- What environments run and ran before, the newest last: what they could return to.
CREATE TABLE releases (
    id INTEGER PRIMARY KEY,
    environment TEXT NOT NULL,
    project INTEGER NOT NULL REFERENCES projects (id),
    job TEXT NOT NULL,
    image TEXT NOT NULL,
    run INTEGER NOT NULL REFERENCES runs (id)
) STRICT;
INSERT INTO releases (environment, project, job, image, run)
    SELECT environment, project, job, image, run FROM running_images ORDER BY run;
DROP TABLE running_images;
CREATE INDEX releases_of_job ON releases (environment, project, job, id);
CREATE INDEX releases_of_run ON releases (run);
CREATE INDEX releases_of_image ON releases (image);
CREATE VIEW running_images AS
    SELECT environment, project, job, image, run FROM releases r
    WHERE r.id = (SELECT max(id) FROM releases n
                  WHERE n.environment = r.environment AND n.project = r.project AND n.job = r.job);

-- Which images have a layer: when none has it any more, its list of files goes.
CREATE TABLE image_layers (
    diff_id TEXT NOT NULL,
    repository TEXT NOT NULL,
    digest TEXT NOT NULL,
    PRIMARY KEY (diff_id, repository, digest)
) STRICT, WITHOUT ROWID;
CREATE INDEX image_layers_of_image ON image_layers (repository, digest);

-- Where the logs of a run are: 0 as they were written, 1 compressed, 2 removed.
ALTER TABLE runs ADD COLUMN logs INTEGER NOT NULL DEFAULT 0;
CREATE INDEX runs_with_plain_logs ON runs (id) WHERE logs = 0;

-- Whether a project is being removed: nobody sees it any more.
ALTER TABLE projects ADD COLUMN is_removed INTEGER NOT NULL DEFAULT 0;

-- Files and folders, below the server's own, that nothing in the records refers to any more.
CREATE TABLE leftovers (path TEXT PRIMARY KEY) STRICT, WITHOUT ROWID;

-- Which process of a runner has a job: another one of the same name has forgotten it.
ALTER TABLE leases ADD COLUMN instance TEXT NOT NULL DEFAULT '';

-- Runners that are given no more jobs.
CREATE TABLE paused_runners (
    name TEXT PRIMARY KEY,
    by TEXT NOT NULL,
    at INTEGER NOT NULL,
    reason TEXT
) STRICT, WITHOUT ROWID;

-- What lists are narrowed down to is found without a look at everything else.
CREATE INDEX runs_by_state ON runs (state, id);
CREATE INDEX runs_of_project_by_state ON runs (project, state, id);
CREATE INDEX runs_by_branch ON runs (branch, id);
CREATE INDEX runs_of_project_by_branch ON runs (project, branch, id);
CREATE INDEX runs_by_author ON runs (author COLLATE NOCASE, id);
CREATE INDEX runs_of_project_by_author ON runs (project, author COLLATE NOCASE, id);

CREATE INDEX image_records_of_repository ON image_records (repository, created);

-- What refers to a run is found without a look at everything, when the run is removed.
CREATE INDEX runs_by_plan ON runs (plan);
CREATE INDEX runs_by_rerun ON runs (rerun_of);
CREATE INDEX image_tags_of_run ON image_tags (run);
CREATE INDEX image_tags_of_last_run ON image_tags (last_run);
CREATE INDEX images_of_run ON images (run);
CREATE INDEX tested_jobs_of_run ON tested_jobs (run);
CREATE INDEX tag_grants_of_run ON tag_grants (run);
