-- The history of a store on PostgreSQL: the same tables as on SQLite. Spaces, logs and people are numbered; what is sent over the wire are their names.

CREATE TABLE store (
    epoch       TEXT COLLATE "C" NOT NULL,           -- one life of this store; replaced by a restore
    batch       BIGINT NOT NULL DEFAULT 0
);

CREATE TABLE space (
    id          BIGINT PRIMARY KEY,
    name        TEXT COLLATE "C" NOT NULL UNIQUE,
    key         BYTEA NOT NULL,           -- seals cursors and page links
    floor       BIGINT NOT NULL DEFAULT 0 -- entries up to this position are not stored any more
);

-- One row an entry. key = space << 44 | position: one sequence a space, appended to the end of one tree.
CREATE TABLE entry (
    key         BIGINT PRIMARY KEY,
    time        BIGINT NOT NULL,        -- microseconds since 1970, strictly increasing within a space
    kind        BIGINT NOT NULL,        -- 1 notification, 2 membership, 3 withdrawn, 4 replaced, 5 expired, 6 trimmed, 7 taken, 8 released, 9 erased, 10 missed
    id          BYTEA,                    -- of the notification, 16 bytes
    body        BYTEA NOT NULL,
    addressing  TEXT COLLATE "C" NOT NULL,           -- the full to and except; never leaves for users
    placements  BYTEA NOT NULL,           -- (log, ordinal) pairs, 16 bytes each
    type        TEXT COLLATE "C" NOT NULL,
    subject     TEXT COLLATE "C",
    receipts    BIGINT NOT NULL,        -- 0 none, 1 totals, 2 full
    take_for    BIGINT                  -- microseconds; 0 without end; null: not takeable
);
CREATE UNIQUE INDEX entry_id ON entry (id, key) WHERE kind = 1;

-- An audience's log or a person's; key is the canonical audience, or user:<id>. Head and what follows are only kept
-- once retention took something.
CREATE TABLE log (
    id            BIGINT PRIMARY KEY,
    space         BIGINT NOT NULL REFERENCES space,
    key           TEXT COLLATE "C" NOT NULL,
    head          BIGINT NOT NULL DEFAULT 0,
    head_position BIGINT NOT NULL DEFAULT 0,
    trimmed       BIGINT NOT NULL DEFAULT 0,
    lost_ordinal  BIGINT NOT NULL DEFAULT 0,
    lost_position BIGINT NOT NULL DEFAULT 0,
    lost_time     BIGINT NOT NULL DEFAULT 0,
    UNIQUE (space, key)
);
CREATE TABLE audience_address (
    space       BIGINT NOT NULL,
    address     TEXT COLLATE "C" NOT NULL,
    log         BIGINT NOT NULL,
    PRIMARY KEY (space, address, log)
);

CREATE TABLE log_item (
    log         BIGINT NOT NULL,
    ordinal     BIGINT NOT NULL,
    position    BIGINT NOT NULL,
    subject     BIGINT,                 -- 63 bits of SHA-256
    type        BIGINT NOT NULL,        -- the same
    PRIMARY KEY (log, ordinal)
);
CREATE UNIQUE INDEX log_item_position ON log_item (log, position);
CREATE INDEX log_item_subject ON log_item (log, subject) WHERE subject IS NOT NULL;

-- What became of a log's notifications, by the position of the entry that says so. turn: -1 died, 1 came to life, 0 neither.
CREATE TABLE change (
    log         BIGINT NOT NULL,
    position    BIGINT NOT NULL,
    ordinal     BIGINT NOT NULL,
    kind        BIGINT NOT NULL,
    turn        BIGINT NOT NULL,
    PRIMARY KEY (log, position)
);

-- People left out of one notification of an audience log, because it names them or excepts them.
CREATE TABLE skip (
    person      BIGINT NOT NULL,
    log         BIGINT NOT NULL,
    ordinal     BIGINT NOT NULL,
    PRIMARY KEY (person, log, ordinal)
);
CREATE INDEX skip_log ON skip (log, ordinal);

CREATE TABLE person (
    id              BIGINT PRIMARY KEY,
    space           BIGINT NOT NULL REFERENCES space,
    name            TEXT COLLATE "C" NOT NULL,
    seen            BIGINT,             -- when a credential was first shown or the directory named the user; null: only ever written to
    rev             BIGINT NOT NULL DEFAULT 0,
    roles_issued_at BIGINT NOT NULL DEFAULT 0,
    roles_changed_at BIGINT NOT NULL DEFAULT 0,
    token_roles     TEXT COLLATE "C" NOT NULL DEFAULT '',
    directory_roles TEXT COLLATE "C" NOT NULL DEFAULT '',
    display_name    TEXT COLLATE "C",
    locale          TEXT COLLATE "C",
    UNIQUE (space, name)
);

-- Intervals in which somebody held a role (or everyone): after < position <= until.
CREATE TABLE membership (
    person      BIGINT NOT NULL,
    space       BIGINT NOT NULL,
    address     TEXT COLLATE "C" NOT NULL,
    after       BIGINT NOT NULL,
    until       BIGINT,
    opened      BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY      -- order of opening
);
CREATE INDEX membership_person ON membership (person);
CREATE INDEX membership_holder ON membership (space, address, person) WHERE until IS NULL;
CREATE TABLE address (
    space       BIGINT NOT NULL,
    address     TEXT COLLATE "C" NOT NULL,
    members     BIGINT NOT NULL,
    PRIMARY KEY (space, address)
);
CREATE TABLE role (
    space        BIGINT NOT NULL,
    role         TEXT COLLATE "C" NOT NULL,
    display_name TEXT COLLATE "C",
    newcomers    BIGINT,                -- microseconds of look-back; 0: only what comes after; null: as configured
    PRIMARY KEY (space, role)
);

-- One person in one log. The lines are marks: everything up to there. gone: what above them is alive and yet not unread,
-- as of the change at journal_seen; null: to be counted anew. parts: which kinds of blocks and skips there are.
-- segments: (after, up to, address) triples of 24 bytes that the person may see; null: to be worked out anew.
CREATE TABLE user_log (
    person        BIGINT NOT NULL,
    log           BIGINT NOT NULL,
    read_line     BIGINT NOT NULL DEFAULT 0,
    received_line BIGINT NOT NULL DEFAULT 0,
    handled_line  BIGINT NOT NULL DEFAULT 0,
    muted_line    BIGINT NOT NULL DEFAULT 0,
    gone          BIGINT,
    journal_seen  BIGINT NOT NULL DEFAULT 0,
    muted_through BIGINT NOT NULL DEFAULT 0,
    parts         BIGINT NOT NULL DEFAULT 0,
    segments      BYTEA,
    PRIMARY KEY (person, log)
);

-- Bitmap blocks of 4,096 ordinals (empty: all set): 1 received, 2 read, 3 handled, 4 muted of a person; 5 dead of a log (person 0).
CREATE TABLE mark_block (
    person      BIGINT NOT NULL,
    log         BIGINT NOT NULL,
    kind        BIGINT NOT NULL,
    block       BIGINT NOT NULL,
    bits        BYTEA NOT NULL,
    count       BIGINT NOT NULL,
    PRIMARY KEY (person, log, kind, block)
);

-- When, and by which device, a person's run was marked. is_long: more than 256 ordinals, so that who has one is found among the short ones by a short look.
CREATE TABLE mark_run (
    log         BIGINT NOT NULL,
    kind        BIGINT NOT NULL,
    person      BIGINT NOT NULL,
    from_ord    BIGINT NOT NULL,
    to_ord      BIGINT NOT NULL,
    time        BIGINT NOT NULL,
    device      TEXT COLLATE "C" NOT NULL,
    is_long     BIGINT NOT NULL,
    PRIMARY KEY (log, kind, person, from_ord)
);
CREATE INDEX mark_run_at ON mark_run (log, kind, is_long, from_ord);

-- How many people have marked what, as differences: the sum up to an ordinal is its count. Blocks of 4,096 are summed.
CREATE TABLE tally (
    log         BIGINT NOT NULL,
    kind        BIGINT NOT NULL,
    ordinal     BIGINT NOT NULL,
    difference  BIGINT NOT NULL,
    PRIMARY KEY (log, kind, ordinal)
);
CREATE TABLE tally_block (
    log         BIGINT NOT NULL,
    kind        BIGINT NOT NULL,
    block       BIGINT NOT NULL,
    difference  BIGINT NOT NULL,
    PRIMARY KEY (log, kind, block)
);

-- Answers that a repeated request gets again, 48 hours long.
CREATE TABLE answer (
    space       BIGINT NOT NULL,
    key         TEXT COLLATE "C" NOT NULL,
    body_hash   BYTEA NOT NULL,
    id          BYTEA NOT NULL,
    position    BIGINT NOT NULL,
    time        BIGINT NOT NULL,
    PRIMARY KEY (space, key)
);
CREATE INDEX answer_time ON answer (time);

-- What is due: 1 expiry, 2 end of a taking, 3 deadline.
CREATE TABLE due (
    space       BIGINT NOT NULL,
    at          BIGINT NOT NULL,
    kind        BIGINT NOT NULL,
    position    BIGINT NOT NULL,
    number      BIGINT NOT NULL,
    PRIMARY KEY (space, at, kind, position, number)
);

CREATE TABLE slot (
    space       BIGINT NOT NULL,
    key         TEXT COLLATE "C" NOT NULL,
    position    BIGINT NOT NULL,
    PRIMARY KEY (space, key)
);
CREATE INDEX slot_position ON slot (space, position);

CREATE TABLE take (
    space       BIGINT NOT NULL,
    position    BIGINT NOT NULL,
    person      BIGINT NOT NULL,
    log         BIGINT NOT NULL,
    ordinal     BIGINT NOT NULL,
    until       BIGINT,
    PRIMARY KEY (space, position)
);
CREATE INDEX take_person ON take (person);
CREATE INDEX take_log ON take (log);

CREATE TABLE mute (
    person      BIGINT NOT NULL,
    is_type     BIGINT NOT NULL,
    text        TEXT COLLATE "C" NOT NULL,
    after       BIGINT NOT NULL,
    until       BIGINT,
    since       BIGINT NOT NULL
);
CREATE INDEX mute_person ON mute (person);

CREATE TABLE deadline (
    space       BIGINT NOT NULL,
    position    BIGINT NOT NULL,
    number      BIGINT NOT NULL,
    by_state    BIGINT NOT NULL,        -- 1 received, 2 read, 3 handled, 5 taken
    within      BIGINT NOT NULL,
    for_each    BIGINT NOT NULL,
    at          BIGINT NOT NULL,
    state       BIGINT NOT NULL,        -- 0 pending, 1 met, 2 missed, 3 void
    ended       BIGINT,
    otherwise_addressing TEXT COLLATE "C",
    otherwise_body       BYTEA,
    otherwise_type       TEXT COLLATE "C",
    otherwise_subject    TEXT COLLATE "C",
    PRIMARY KEY (space, position, number)
);

-- What backends may hear of receipts, in order. key = space << 44 | number.
CREATE TABLE receipt (
    key         BIGINT PRIMARY KEY,
    time        BIGINT NOT NULL,
    state       BIGINT NOT NULL,
    log         BIGINT NOT NULL,
    from_ord    BIGINT NOT NULL,
    to_ord      BIGINT NOT NULL,
    person      BIGINT NOT NULL,
    device      TEXT COLLATE "C" NOT NULL,
    position    BIGINT NOT NULL,
    detail      TEXT COLLATE "C" NOT NULL
);
