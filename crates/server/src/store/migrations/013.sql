-- Leases have numbers, which are never given twice: of two for one job the later has the higher.
CREATE TABLE numbered_leases (
    number INTEGER PRIMARY KEY AUTOINCREMENT,
    hash BLOB NOT NULL UNIQUE,
    run INTEGER NOT NULL REFERENCES runs (id),
    job TEXT NOT NULL,
    runner TEXT NOT NULL
) STRICT;
INSERT INTO numbered_leases (hash, run, job, runner) SELECT hash, run, job, runner FROM leases;
DROP TABLE leases;
ALTER TABLE numbered_leases RENAME TO leases;
CREATE INDEX leases_of_run ON leases (run, job);

-- The order of a project's commits: each time that a branch or tag is seen to name another commit, it gets the
-- next place. A run has that of the commit that it carries.
ALTER TABLE projects ADD COLUMN next_place INTEGER NOT NULL DEFAULT 1;
ALTER TABLE branches ADD COLUMN place INTEGER NOT NULL DEFAULT 0;
ALTER TABLE tags ADD COLUMN place INTEGER NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN place INTEGER NOT NULL DEFAULT 0;
UPDATE projects SET next_place = next_number;
UPDATE runs SET place = number;
UPDATE branches SET place = (SELECT next_number - 1 FROM projects p WHERE p.id = branches.project);
UPDATE tags SET place = (SELECT next_number - 1 FROM projects p WHERE p.id = tags.project);

-- The last run that set a tag, also where it named the same image before.
ALTER TABLE image_tags ADD COLUMN last_run INTEGER REFERENCES runs (id);

-- Which runs were allowed to set a tag that moves: whether they did, they may not have lived to tell.
CREATE TABLE tag_grants (
    repository TEXT NOT NULL,
    tag TEXT NOT NULL,
    run INTEGER NOT NULL REFERENCES runs (id),
    PRIMARY KEY (repository, tag, run)
) STRICT, WITHOUT ROWID;

-- What lists and pages ask for, so that their time does not grow with the records.
CREATE INDEX runs_of_project ON runs (project, id);
CREATE INDEX runs_of_branch ON runs (project, branch, place);
CREATE INDEX runs_by_commit ON runs (project, commit_id);
CREATE INDEX image_tags_by_digest ON image_tags (repository, digest);
CREATE INDEX image_records_of_run ON image_records (run);
CREATE INDEX running_images_by_image ON running_images (image);
