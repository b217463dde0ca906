-- Several may sign in at a registry, each for its repositories and projects (JSON lists of patterns; all where empty);
-- and where they do is settled when they are named.
CREATE TABLE registry_accounts (
    host TEXT NOT NULL,
    user TEXT NOT NULL,
    password BLOB NOT NULL,
    repositories TEXT NOT NULL,
    projects TEXT NOT NULL,
    PRIMARY KEY (host, user)
) STRICT, WITHOUT ROWID;
INSERT INTO registry_accounts SELECT host, user, password, '[]', '[]' FROM registries
    WHERE user IS NOT NULL AND password IS NOT NULL;
ALTER TABLE registries DROP COLUMN user;
ALTER TABLE registries DROP COLUMN password;
ALTER TABLE registries ADD COLUMN realm TEXT;
