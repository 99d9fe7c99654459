-- Credentials: who may do what. Secrets are stored as SHA-256 of the secret, but for signing keys, which must be used.

CREATE TABLE api_key (
    id          TEXT PRIMARY KEY,
    space       TEXT NOT NULL,
    name        TEXT NOT NULL,
    hash        BLOB NOT NULL UNIQUE,
    scopes      TEXT NOT NULL,           -- comma-separated: send, read, admin
    created     INTEGER NOT NULL,
    last_used   INTEGER,
    revoked     INTEGER
);
CREATE TABLE signing_key (
    space       TEXT PRIMARY KEY,
    secret      BLOB NOT NULL,
    created     INTEGER NOT NULL
);
CREATE TABLE ticket (
    hash        BLOB PRIMARY KEY,
    space       TEXT NOT NULL,
    user        TEXT NOT NULL,
    roles       TEXT NOT NULL,           -- JSON array
    issued_at   INTEGER NOT NULL,        -- the token's iat, microseconds
    expires     INTEGER NOT NULL,        -- the token's exp, microseconds
    opens_until INTEGER NOT NULL,
    opened      INTEGER,
    device      TEXT,
    origin      TEXT
) WITHOUT ROWID;
CREATE INDEX ticket_expires ON ticket (expires);
CREATE TABLE operator (
    name        TEXT PRIMARY KEY,
    password    TEXT NOT NULL,
    created     INTEGER NOT NULL
);
CREATE TABLE signup_link (
    hash        BLOB PRIMARY KEY,
    expires     INTEGER NOT NULL
) WITHOUT ROWID;
