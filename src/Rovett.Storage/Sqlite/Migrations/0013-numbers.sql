-- Numbers are never given twice: what names one that is gone must not meet another.
CREATE TABLE set_aside_next (
    number      INTEGER PRIMARY KEY AUTOINCREMENT,
    space       INTEGER NOT NULL,
    time        INTEGER NOT NULL,
    kind        INTEGER NOT NULL,
    position    INTEGER NOT NULL,
    why         TEXT NOT NULL,
    detail      TEXT NOT NULL
);
INSERT INTO set_aside_next SELECT number, space, time, kind, position, why, detail FROM set_aside;
DROP TABLE set_aside;
ALTER TABLE set_aside_next RENAME TO set_aside;
CREATE INDEX set_aside_space ON set_aside (space, number);

CREATE TABLE gathering_next (
    number      INTEGER PRIMARY KEY AUTOINCREMENT,
    space       INTEGER NOT NULL,
    key         BLOB NOT NULL,
    id          BLOB NOT NULL,
    rule        TEXT NOT NULL,
    events      INTEGER NOT NULL,
    closes      INTEGER NOT NULL,
    body        BLOB NOT NULL,
    except_too  TEXT NOT NULL,
    receipts    INTEGER NOT NULL,
    first       INTEGER,
    UNIQUE (space, key)
);
INSERT INTO gathering_next SELECT number, space, key, id, rule, events, closes, body, except_too, receipts, first FROM gathering;
DROP TABLE gathering;
ALTER TABLE gathering_next RENAME TO gathering;
CREATE INDEX gathering_id ON gathering (space, id);
