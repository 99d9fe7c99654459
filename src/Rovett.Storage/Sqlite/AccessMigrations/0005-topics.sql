-- Who is asked about topics; what tickets stand for; what operators may do, and when they signed in.

ALTER TABLE ticket ADD COLUMN claims TEXT NOT NULL DEFAULT ''; -- of its token, those that policies look at: JSON

ALTER TABLE ticket ADD COLUMN comes_back INTEGER NOT NULL DEFAULT 1; -- opened by a stream that reconnects by itself

-- Backends that policies ask. The secret is stored as it is, because it signs what is asked.
CREATE TABLE decider (
    space         TEXT NOT NULL,
    name          TEXT NOT NULL,
    url           TEXT NOT NULL,
    secret        BLOB NOT NULL,
    timeout_ms    INTEGER NOT NULL,
    allow_seconds INTEGER NOT NULL,      -- how long an answer holds that does not say so itself
    deny_seconds  INTEGER NOT NULL,
    created       INTEGER NOT NULL,
    PRIMARY KEY (space, name)
) WITHOUT ROWID;

ALTER TABLE operator ADD COLUMN may TEXT NOT NULL DEFAULT 'operate';    -- view, operate
ALTER TABLE signup_link ADD COLUMN may TEXT NOT NULL DEFAULT 'operate';
CREATE TABLE sign_in (
    id            INTEGER PRIMARY KEY AUTOINCREMENT,
    operator      TEXT NOT NULL,
    time          INTEGER NOT NULL,
    address       TEXT NOT NULL,
    agent         TEXT NOT NULL,         -- the browser's own words, cut
    signed_in     INTEGER NOT NULL       -- 0: refused
);

-- Where a space's own part of the trail begins, when another by its name was before it.
CREATE TABLE space_start (
    space         TEXT PRIMARY KEY,
    audit_after   INTEGER NOT NULL
) WITHOUT ROWID;
