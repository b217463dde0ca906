-- People, and what they may do. Until now whoever had a token could do nearly everything: they keep what is of projects.
CREATE TABLE users (
    name TEXT PRIMARY KEY,
    -- Separated by spaces.
    teams TEXT NOT NULL,
    created INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO users (name, teams, created) SELECT name, groups, created FROM tokens WHERE kind = 'admin';

-- A role holds for one project, for those whose names begin so (`garden-*`), or for all (`*`).
CREATE TABLE roles (
    holder TEXT NOT NULL,
    role TEXT NOT NULL,
    projects TEXT NOT NULL,
    given INTEGER NOT NULL,
    by TEXT NOT NULL,
    PRIMARY KEY (holder, role, projects)
) STRICT, WITHOUT ROWID;
INSERT INTO roles (holder, role, projects, given, by)
    SELECT name, iif(name = 'admin', 'administer', 'maintain'), '*', created, 'server' FROM users;

-- Tokens have numbers, a label, and may be limited to a role in some projects. A session is of a token, and ends with it.
CREATE TABLE numbered_tokens (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    hash BLOB NOT NULL UNIQUE,
    kind TEXT NOT NULL CHECK (kind IN ('person', 'runner', 'session')),
    owner TEXT NOT NULL,
    label TEXT NOT NULL,
    created INTEGER NOT NULL,
    expires INTEGER,
    used INTEGER,
    role TEXT,
    projects TEXT,
    parent INTEGER REFERENCES numbered_tokens (id) ON DELETE CASCADE
) STRICT;
INSERT INTO numbered_tokens (hash, kind, owner, label, created, expires)
    SELECT hash, iif(kind = 'admin', 'person', kind), name, 'first', created, expires FROM tokens;
DROP TABLE tokens;
ALTER TABLE numbered_tokens RENAME TO tokens;
CREATE INDEX tokens_of_owner ON tokens (owner);
CREATE INDEX tokens_of_parent ON tokens (parent);

-- What projects trust, and who started runs by hand. Patterns are separated by spaces; with none, it is the default branch.
ALTER TABLE projects ADD COLUMN default_branch TEXT;
ALTER TABLE projects ADD COLUMN protected TEXT NOT NULL DEFAULT '';
ALTER TABLE runs ADD COLUMN started_by TEXT;

-- What environments ask of runs that would roll out there (JSON), and how their clusters are reached, sealed. Those of
-- before took every ref; the files that they name are read and sealed when the server starts.
CREATE TABLE ruled_environments (
    name TEXT PRIMARY KEY,
    namespace TEXT NOT NULL,
    address TEXT,
    cluster TEXT,
    kubeconfig BLOB,
    old_file TEXT,
    rules TEXT NOT NULL,
    by TEXT,
    at INTEGER
) STRICT, WITHOUT ROWID;
INSERT INTO ruled_environments (name, namespace, address, old_file, rules)
    SELECT name, namespace, address, kubeconfig,
           iif(takes_tries, '{"refs":"any","starts":["commit","schedule","base-moved","manual","try","rerun"]}',
               '{"refs":"any"}')
    FROM environments;
DROP TABLE environments;
ALTER TABLE ruled_environments RENAME TO environments;

-- Whether a secret is for runs of protected refs only.
ALTER TABLE secrets ADD COLUMN protected INTEGER NOT NULL DEFAULT 0;
