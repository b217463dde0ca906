-- A registry may be signed in at, have certificates of its own, and be the one that short names mean.
CREATE TABLE registries_new (
    host TEXT PRIMARY KEY,
    address TEXT,
    user TEXT,
    password BLOB,
    certificates TEXT,
    layers TEXT,
    short_names TEXT
) STRICT, WITHOUT ROWID;
INSERT INTO registries_new (host, address) SELECT host, address FROM registries;
DROP TABLE registries;
ALTER TABLE registries_new RENAME TO registries;
