-- The history of a store. Spaces, logs and people are numbered; what is sent over the wire are their names.

CREATE TABLE store (
    epoch       TEXT NOT NULL,           -- one life of this store; replaced by a restore
    batch       INTEGER NOT NULL DEFAULT 0
);

CREATE TABLE space (
    id          INTEGER PRIMARY KEY,
    name        TEXT NOT NULL UNIQUE,
    key         BLOB NOT NULL,           -- seals cursors and page links
    floor       INTEGER NOT NULL DEFAULT 0 -- entries up to this position are not stored any more
);

-- One row an entry. key = space << 44 | position: one sequence a space, appended to the end of one tree.
CREATE TABLE entry (
    key         INTEGER PRIMARY KEY,
    time        INTEGER NOT NULL,        -- microseconds since 1970, strictly increasing within a space
    kind        INTEGER NOT NULL,        -- 1 notification, 2 membership, 3 withdrawn, 4 replaced, 5 expired, 6 trimmed, 7 taken, 8 released, 9 erased, 10 missed
    id          BLOB,                    -- of the notification, 16 bytes
    body        BLOB NOT NULL,
    addressing  TEXT NOT NULL,           -- the full to and except; never leaves for users
    placements  BLOB NOT NULL,           -- (log, ordinal) pairs, 16 bytes each
    type        TEXT NOT NULL,
    subject     TEXT,
    receipts    INTEGER NOT NULL,        -- 0 none, 1 totals, 2 full
    take_for    INTEGER                  -- microseconds; 0 without end; null: not takeable
);
CREATE UNIQUE INDEX entry_id ON entry (id, key) WHERE kind = 1;

-- An audience's log or a person's; key is the canonical audience, or user:<id>. Head and what follows are only kept
-- once retention took something.
CREATE TABLE log (
    id            INTEGER PRIMARY KEY,
    space         INTEGER NOT NULL REFERENCES space,
    key           TEXT NOT NULL,
    head          INTEGER NOT NULL DEFAULT 0,
    head_position INTEGER NOT NULL DEFAULT 0,
    trimmed       INTEGER NOT NULL DEFAULT 0,
    lost_ordinal  INTEGER NOT NULL DEFAULT 0,
    lost_position INTEGER NOT NULL DEFAULT 0,
    lost_time     INTEGER NOT NULL DEFAULT 0,
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
    type        INTEGER NOT NULL,        -- the same
    PRIMARY KEY (log, ordinal)
) WITHOUT ROWID;
CREATE UNIQUE INDEX log_item_position ON log_item (log, position);
CREATE INDEX log_item_subject ON log_item (log, subject) WHERE subject IS NOT NULL;

-- What became of a log's notifications, by the position of the entry that says so. turn: -1 died, 1 came to life, 0 neither.
CREATE TABLE change (
    log         INTEGER NOT NULL,
    position    INTEGER NOT NULL,
    ordinal     INTEGER NOT NULL,
    kind        INTEGER NOT NULL,
    turn        INTEGER NOT NULL,
    PRIMARY KEY (log, position)
) WITHOUT ROWID;

-- People left out of one notification of an audience log, because it names them or excepts them.
CREATE TABLE skip (
    person      INTEGER NOT NULL,
    log         INTEGER NOT NULL,
    ordinal     INTEGER NOT NULL,
    PRIMARY KEY (person, log, ordinal)
) WITHOUT ROWID;
CREATE INDEX skip_log ON skip (log, ordinal);

CREATE TABLE person (
    id              INTEGER PRIMARY KEY,
    space           INTEGER NOT NULL REFERENCES space,
    name            TEXT NOT NULL,
    seen            INTEGER,             -- when a credential was first shown or the directory named the user; null: only ever written to
    rev             INTEGER NOT NULL DEFAULT 0,
    roles_issued_at INTEGER NOT NULL DEFAULT 0,
    roles_changed_at INTEGER NOT NULL DEFAULT 0,
    token_roles     TEXT NOT NULL DEFAULT '',
    directory_roles TEXT NOT NULL DEFAULT '',
    display_name    TEXT,
    locale          TEXT,
    UNIQUE (space, name)
);

-- Intervals in which somebody held a role (or everyone): after < position <= until.
CREATE TABLE membership (
    person      INTEGER NOT NULL,
    space       INTEGER NOT NULL,
    address     TEXT NOT NULL,
    after       INTEGER NOT NULL,
    until       INTEGER,
    opened      INTEGER PRIMARY KEY      -- order of opening
);
CREATE INDEX membership_person ON membership (person);
CREATE INDEX membership_holder ON membership (space, address, person) WHERE until IS NULL;
CREATE TABLE address (
    space       INTEGER NOT NULL,
    address     TEXT NOT NULL,
    members     INTEGER NOT NULL,
    PRIMARY KEY (space, address)
) WITHOUT ROWID;
CREATE TABLE role (
    space        INTEGER NOT NULL,
    role         TEXT NOT NULL,
    display_name TEXT,
    newcomers    INTEGER,                -- microseconds of look-back; 0: only what comes after; null: as configured
    PRIMARY KEY (space, role)
) WITHOUT ROWID;

-- One person in one log. The lines are marks: everything up to there. gone: what above them is alive and yet not unread,
-- as of the change at journal_seen; null: to be counted anew. parts: which kinds of blocks and skips there are.
-- segments: (after, up to, address) triples of 24 bytes that the person may see; null: to be worked out anew.
CREATE TABLE user_log (
    person        INTEGER NOT NULL,
    log           INTEGER NOT NULL,
    read_line     INTEGER NOT NULL DEFAULT 0,
    received_line INTEGER NOT NULL DEFAULT 0,
    handled_line  INTEGER NOT NULL DEFAULT 0,
    muted_line    INTEGER NOT NULL DEFAULT 0,
    gone          INTEGER,
    journal_seen  INTEGER NOT NULL DEFAULT 0,
    muted_through INTEGER NOT NULL DEFAULT 0,
    parts         INTEGER NOT NULL DEFAULT 0,
    segments      BLOB,
    PRIMARY KEY (person, log)
) WITHOUT ROWID;

-- Bitmap blocks of 4,096 ordinals (empty: all set): 1 received, 2 read, 3 handled, 4 muted of a person; 5 dead of a log (person 0).
CREATE TABLE mark_block (
    person      INTEGER NOT NULL,
    log         INTEGER NOT NULL,
    kind        INTEGER NOT NULL,
    block       INTEGER NOT NULL,
    bits        BLOB NOT NULL,
    count       INTEGER NOT NULL,
    PRIMARY KEY (person, log, kind, block)
) WITHOUT ROWID;

-- When, and by which device, a person's run was marked. is_long: more than 256 ordinals, so that who has one is found among the short ones by a short look.
CREATE TABLE mark_run (
    log         INTEGER NOT NULL,
    kind        INTEGER NOT NULL,
    person      INTEGER NOT NULL,
    from_ord    INTEGER NOT NULL,
    to_ord      INTEGER NOT NULL,
    time        INTEGER NOT NULL,
    device      TEXT NOT NULL,
    is_long     INTEGER NOT NULL,
    PRIMARY KEY (log, kind, person, from_ord)
) WITHOUT ROWID;
CREATE INDEX mark_run_at ON mark_run (log, kind, is_long, from_ord);

-- How many people have marked what, as differences: the sum up to an ordinal is its count. Blocks of 4,096 are summed.
CREATE TABLE tally (
    log         INTEGER NOT NULL,
    kind        INTEGER NOT NULL,
    ordinal     INTEGER NOT NULL,
    difference  INTEGER NOT NULL,
    PRIMARY KEY (log, kind, ordinal)
) WITHOUT ROWID;
CREATE TABLE tally_block (
    log         INTEGER NOT NULL,
    kind        INTEGER NOT NULL,
    block       INTEGER NOT NULL,
    difference  INTEGER NOT NULL,
    PRIMARY KEY (log, kind, block)
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

-- What is due: 1 expiry, 2 end of a taking, 3 deadline.
CREATE TABLE due (
    space       INTEGER NOT NULL,
    at          INTEGER NOT NULL,
    kind        INTEGER NOT NULL,
    position    INTEGER NOT NULL,
    number      INTEGER NOT NULL,
    PRIMARY KEY (space, at, kind, position, number)
) WITHOUT ROWID;

CREATE TABLE slot (
    space       INTEGER NOT NULL,
    key         TEXT NOT NULL,
    position    INTEGER NOT NULL,
    PRIMARY KEY (space, key)
) WITHOUT ROWID;
CREATE INDEX slot_position ON slot (space, position);

CREATE TABLE take (
    space       INTEGER NOT NULL,
    position    INTEGER NOT NULL,
    person      INTEGER NOT NULL,
    log         INTEGER NOT NULL,
    ordinal     INTEGER NOT NULL,
    until       INTEGER,
    PRIMARY KEY (space, position)
) WITHOUT ROWID;
CREATE INDEX take_person ON take (person);
CREATE INDEX take_log ON take (log);

CREATE TABLE mute (
    person      INTEGER NOT NULL,
    is_type     INTEGER NOT NULL,
    text        TEXT NOT NULL,
    after       INTEGER NOT NULL,
    until       INTEGER,
    since       INTEGER NOT NULL
);
CREATE INDEX mute_person ON mute (person);

CREATE TABLE deadline (
    space       INTEGER NOT NULL,
    position    INTEGER NOT NULL,
    number      INTEGER NOT NULL,
    by_state    INTEGER NOT NULL,        -- 1 received, 2 read, 3 handled, 5 taken
    within      INTEGER NOT NULL,
    for_each    INTEGER NOT NULL,
    at          INTEGER NOT NULL,
    state       INTEGER NOT NULL,        -- 0 pending, 1 met, 2 missed, 3 void
    ended       INTEGER,
    otherwise_addressing TEXT,
    otherwise_body       BLOB,
    otherwise_type       TEXT,
    otherwise_subject    TEXT,
    PRIMARY KEY (space, position, number)
) WITHOUT ROWID;

-- What backends may hear of receipts, in order. key = space << 44 | number.
CREATE TABLE receipt (
    key         INTEGER PRIMARY KEY,
    time        INTEGER NOT NULL,
    state       INTEGER NOT NULL,
    log         INTEGER NOT NULL,
    from_ord    INTEGER NOT NULL,
    to_ord      INTEGER NOT NULL,
    person      INTEGER NOT NULL,
    device      TEXT NOT NULL,
    position    INTEGER NOT NULL,
    detail      TEXT NOT NULL
);
