-- The history of a store. Spaces, logs and people are numbered; what is sent over the wire are their names.

CREATE TABLE store (
    epoch       TEXT NOT NULL            -- one life of this store; replaced by a restore
);

CREATE TABLE space (
    id          INTEGER PRIMARY KEY,
    name        TEXT NOT NULL UNIQUE,
    key         BLOB NOT NULL            -- seals cursors and page links
);

-- One row an entry. key = space << 44 | position: one sequence a space, appended to the end of one tree.
CREATE TABLE entry (
    key         INTEGER PRIMARY KEY,
    time        INTEGER NOT NULL,        -- microseconds since 1970, strictly increasing within a space
    kind        INTEGER NOT NULL,        -- 1 notification, 2 membership
    id          BLOB,                    -- of a notification, 16 bytes
    body        BLOB NOT NULL,
    addressing  TEXT NOT NULL,           -- the full to and except; never leaves for users
    placements  BLOB NOT NULL            -- (log, ordinal) pairs, 16 bytes each
);
CREATE UNIQUE INDEX entry_id ON entry (id, key) WHERE id IS NOT NULL;

-- An audience's log or a person's; key is the canonical audience, or user:<id>.
CREATE TABLE log (
    id          INTEGER PRIMARY KEY,
    space       INTEGER NOT NULL REFERENCES space,
    key         TEXT NOT NULL,
    UNIQUE (space, key)
);
CREATE TABLE audience_address (
    space       INTEGER NOT NULL,
    address     TEXT NOT NULL,
    log         INTEGER NOT NULL,
    PRIMARY KEY (space, address, log)
) WITHOUT ROWID;

CREATE TABLE log_item (
    log         INTEGER NOT NULL,
    ordinal     INTEGER NOT NULL,
    position    INTEGER NOT NULL,
    subject     INTEGER,                 -- 63 bits of SHA-256
    PRIMARY KEY (log, ordinal)
) WITHOUT ROWID;
CREATE UNIQUE INDEX log_item_position ON log_item (log, position);
CREATE INDEX log_item_subject ON log_item (log, subject) WHERE subject IS NOT NULL;

-- People left out of one notification of an audience log, because it names them or excepts them.
CREATE TABLE skip (
    person      INTEGER NOT NULL,
    log         INTEGER NOT NULL,
    ordinal     INTEGER NOT NULL,
    PRIMARY KEY (person, log, ordinal)
) WITHOUT ROWID;

CREATE TABLE person (
    id              INTEGER PRIMARY KEY,
    space           INTEGER NOT NULL REFERENCES space,
    user            TEXT NOT NULL,
    seen            INTEGER,             -- when a credential was first shown; null: only ever written to
    rev             INTEGER NOT NULL DEFAULT 0,
    roles_issued_at INTEGER NOT NULL DEFAULT 0,
    UNIQUE (space, user)
);

-- Intervals in which somebody held a role (or everyone): after < position <= until.
CREATE TABLE membership (
    person      INTEGER NOT NULL,
    address     TEXT NOT NULL,
    after       INTEGER NOT NULL,
    until       INTEGER,
    opened      INTEGER PRIMARY KEY      -- order of opening
);
CREATE INDEX membership_person ON membership (person);
CREATE TABLE address (
    space       INTEGER NOT NULL,
    address     TEXT NOT NULL,
    members     INTEGER NOT NULL,
    PRIMARY KEY (space, address)
) WITHOUT ROWID;

-- Marks of one person in one log (kind 1 received, 2 read): everything up to the line, and bitmap blocks of 4,096
-- ordinals above it (empty: all set); and when, by which device, each run was marked.
CREATE TABLE mark_line (
    person      INTEGER NOT NULL,
    log         INTEGER NOT NULL,
    kind        INTEGER NOT NULL,
    line        INTEGER NOT NULL,
    PRIMARY KEY (person, log, kind)
) WITHOUT ROWID;
CREATE TABLE mark_block (
    person      INTEGER NOT NULL,
    log         INTEGER NOT NULL,
    kind        INTEGER NOT NULL,
    block       INTEGER NOT NULL,
    bits        BLOB NOT NULL,
    PRIMARY KEY (person, log, kind, block)
) WITHOUT ROWID;
CREATE TABLE mark_run (
    log         INTEGER NOT NULL,
    kind        INTEGER NOT NULL,
    person      INTEGER NOT NULL,
    from_ord    INTEGER NOT NULL,
    to_ord      INTEGER NOT NULL,
    time        INTEGER NOT NULL,
    device      TEXT NOT NULL,
    PRIMARY KEY (log, kind, person, from_ord)
) WITHOUT ROWID;

-- Answers that a repeated request gets again, 48 hours long.
CREATE TABLE answer (
    space       INTEGER NOT NULL,
    key         TEXT NOT NULL,
    body_hash   BLOB NOT NULL,
    id          BLOB NOT NULL,
    position    INTEGER NOT NULL,
    time        INTEGER NOT NULL,
    PRIMARY KEY (space, key)
) WITHOUT ROWID;
CREATE INDEX answer_time ON answer (time);
