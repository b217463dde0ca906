-- Whether whoever administers the server named a project's repository: it may be anywhere then, and is reached with what
-- the server's user has for git and ssh.
ALTER TABLE projects ADD COLUMN is_trusted INTEGER NOT NULL DEFAULT 1;
