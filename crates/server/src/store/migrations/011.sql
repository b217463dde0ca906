-- Images that runs pushed; the body is JSON, compressed with zstd: layers and packages.
CREATE TABLE image_records (
    repository TEXT NOT NULL,
    digest TEXT NOT NULL,
    run INTEGER NOT NULL REFERENCES runs (id),
    job TEXT NOT NULL,
    made INTEGER NOT NULL,
    base TEXT,
    base_digest TEXT,
    size INTEGER NOT NULL,
    packages INTEGER NOT NULL,
    body BLOB NOT NULL,
    PRIMARY KEY (repository, digest)
) STRICT, WITHOUT ROWID;
CREATE INDEX image_records_by_time ON image_records (made);

-- What each tag meant, in its order.
CREATE TABLE image_tags (
    id INTEGER PRIMARY KEY,
    repository TEXT NOT NULL,
    tag TEXT NOT NULL,
    digest TEXT NOT NULL,
    run INTEGER NOT NULL REFERENCES runs (id),
    at INTEGER NOT NULL
) STRICT;
CREATE INDEX image_tags_by_name ON image_tags (repository, tag, id);

-- The files of layers, by the digest of their uncompressed bytes; JSON, compressed with zstd.
CREATE TABLE layer_listings (
    diff_id TEXT PRIMARY KEY,
    body BLOB NOT NULL
) STRICT, WITHOUT ROWID;

-- What each environment runs.
CREATE TABLE running_images (
    environment TEXT NOT NULL,
    project INTEGER NOT NULL REFERENCES projects (id),
    job TEXT NOT NULL,
    image TEXT NOT NULL,
    run INTEGER NOT NULL REFERENCES runs (id),
    PRIMARY KEY (environment, project, job)
) STRICT, WITHOUT ROWID;

-- When the name of a base was seen to mean another image.
ALTER TABLE bases ADD COLUMN moved INTEGER;
