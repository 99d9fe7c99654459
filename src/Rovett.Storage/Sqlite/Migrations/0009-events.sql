-- Events taken, by source and id: what a repeat is answered, and which notifications came of them.
CREATE TABLE event (
    space       INTEGER NOT NULL,
    source      TEXT NOT NULL,
    id          TEXT NOT NULL,
    hash        BLOB NOT NULL,           -- SHA-256 of the content
    time        INTEGER NOT NULL,        -- when it was taken, microseconds
    type        TEXT NOT NULL,
    subject     TEXT,
    trace       TEXT,                    -- traceparent
    outcome     BLOB NOT NULL,           -- JSON (EventOutcome)
    PRIMARY KEY (space, source, id)
) WITHOUT ROWID;
CREATE INDEX event_time ON event (space, time);

-- The events that a notification came of. Ids of notifications begin with their time, and are trimmed by it.
CREATE TABLE origin (
    space        INTEGER NOT NULL,
    notification BLOB NOT NULL,
    source       TEXT NOT NULL,
    event        TEXT NOT NULL,
    rule         TEXT NOT NULL,
    PRIMARY KEY (space, notification, source, event, rule)
) WITHOUT ROWID;

-- Gatherings that are open: events of one rule, to the same addresses and about the same subject.
CREATE TABLE gathering (
    number      INTEGER PRIMARY KEY,
    space       INTEGER NOT NULL,
    key         BLOB NOT NULL,           -- SHA-256 of rule, addresses and subject
    id          BLOB NOT NULL,           -- of the notification that closes it
    rule        TEXT NOT NULL,
    events      INTEGER NOT NULL,        -- how many are in it
    closes      INTEGER NOT NULL,        -- due time, microseconds
    body        BLOB NOT NULL,           -- the newest draft, as a send's body
    except_too  TEXT NOT NULL,           -- exceptions of all its events, a line each
    receipts    INTEGER NOT NULL,
    first       INTEGER,                 -- the position of the first event's notification, when it was sent at once
    UNIQUE (space, key)
);
CREATE INDEX gathering_id ON gathering (space, id);

-- Each version of a space's rules, by the key of the entry that loaded it (space << 44 | position).
CREATE TABLE rules (
    key         INTEGER PRIMARY KEY,
    time        INTEGER NOT NULL,
    document    BLOB NOT NULL            -- YAML or JSON, as it was loaded
);
