-- The provider of OpenID Connect that people are signed in by: one; as JSON, and what the server shows it, sealed.
CREATE TABLE openid (
    one INTEGER PRIMARY KEY CHECK (one = 1),
    settings TEXT NOT NULL,
    secret BLOB
) STRICT;

-- Who is who there. A provider may give a name to somebody else, and never a subject.
CREATE TABLE openid_people (
    issuer TEXT NOT NULL,
    subject TEXT NOT NULL,
    name TEXT NOT NULL REFERENCES users (name) ON DELETE CASCADE,
    PRIMARY KEY (issuer, subject)
) STRICT, WITHOUT ROWID;
