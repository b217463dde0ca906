-- Who did what to what, and with what result. Each entry holds the digest of the one before it.
CREATE TABLE audit (
    number INTEGER PRIMARY KEY,
    at INTEGER NOT NULL,
    who TEXT NOT NULL,
    token INTEGER,
    address TEXT,
    action TEXT NOT NULL,
    target TEXT NOT NULL,
    project TEXT,
    result TEXT NOT NULL,
    words TEXT NOT NULL,
    after BLOB NOT NULL,
    chain BLOB NOT NULL
) STRICT;
CREATE INDEX audit_of_project ON audit (project, number);
CREATE INDEX audit_of_who ON audit (who, number);

-- The last entry that is kept no more, and for how many seconds entries are kept; for ever where nothing is said.
CREATE TABLE audit_start (
    one INTEGER PRIMARY KEY CHECK (one = 1),
    number INTEGER NOT NULL,
    chain BLOB NOT NULL,
    seconds INTEGER
) STRICT;
-- The chain begins with the SHA-256 of nothing.
INSERT INTO audit_start (one, number, chain)
    VALUES (1, 0, x'e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855');

-- What was written stays as it is, and goes only from the beginning, as the start says.
CREATE TRIGGER audit_stays BEFORE UPDATE ON audit BEGIN
    SELECT RAISE(ABORT, 'the audit is only added to');
END;
CREATE TRIGGER audit_is_kept BEFORE DELETE ON audit WHEN old.number > (SELECT number FROM audit_start) BEGIN
    SELECT RAISE(ABORT, 'the audit is only added to');
END;

-- From which addresses a token was used.
CREATE TABLE token_addresses (
    token INTEGER NOT NULL REFERENCES tokens (id) ON DELETE CASCADE,
    address TEXT NOT NULL,
    first INTEGER NOT NULL,
    PRIMARY KEY (token, address)
) STRICT, WITHOUT ROWID;
