-- The commits that tags named when a run of a protected ref first used a template by them.
CREATE TABLE template_pins (
    project INTEGER NOT NULL REFERENCES projects (id) ON DELETE CASCADE,
    tag TEXT NOT NULL,
    "commit" TEXT NOT NULL,
    PRIMARY KEY (project, tag)
) STRICT, WITHOUT ROWID;
