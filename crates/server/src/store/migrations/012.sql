-- Words that changed; the documents are rewritten by `renamed.rs`.
ALTER TABLE keeps RENAME TO artifacts;
ALTER TABLE artifacts RENAME COLUMN made TO created;
ALTER TABLE kept_files RENAME TO artifact_files;
ALTER TABLE artifact_files RENAME COLUMN keep TO artifact;
DROP INDEX kept_files_by_digest;
CREATE INDEX artifact_files_by_digest ON artifact_files (digest);
ALTER TABLE caches RENAME COLUMN made TO created;
ALTER TABLE image_records RENAME COLUMN made TO created;
ALTER TABLE projects RENAME COLUMN cap TO job_limit;
ALTER TABLE pools RENAME COLUMN cap TO job_limit;
ALTER TABLE registries RENAME COLUMN short_names TO bare_names;
ALTER TABLE clocks RENAME TO schedules;
DROP INDEX clocks_by_next;
CREATE INDEX schedules_by_next ON schedules (next);
UPDATE runs SET start = 'schedule' WHERE start = 'clock';
UPDATE runs SET start = 'manual' WHERE start = 'hand';
UPDATE runs SET start = 'base-moved' WHERE start = 'base';
