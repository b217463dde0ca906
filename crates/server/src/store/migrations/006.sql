-- Whether pipelines of other projects may use templates of this one's repository.
ALTER TABLE projects ADD COLUMN templates INTEGER NOT NULL DEFAULT 0;

-- The templates that a run's pipeline used; JSON.
ALTER TABLE runs ADD COLUMN templates TEXT NOT NULL DEFAULT '[]';
CREATE INDEX runs_with_templates ON runs (project, number) WHERE templates <> '[]';
