-- What signs the tokens that say which job somebody is: keys for ES256 (PKCS #8), sealed.
CREATE TABLE signing_keys (
    id TEXT PRIMARY KEY,
    sealed BLOB NOT NULL,
    made_at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- Whom such a token is for that signs in instead of a password, which is then empty.
ALTER TABLE registry_accounts ADD COLUMN audience TEXT;
