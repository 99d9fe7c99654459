-- What could not be carried out and would fail again: kept with the reason, and not tried again by itself.
CREATE TABLE set_aside (
    number      INTEGER PRIMARY KEY,
    space       INTEGER NOT NULL,
    time        INTEGER NOT NULL,        -- when it was set aside, microseconds
    kind        INTEGER NOT NULL,        -- 1 something due, 2 what a missed deadline was to send otherwise
    position    INTEGER NOT NULL,        -- the entry that it belongs to
    why         TEXT NOT NULL,
    detail      TEXT NOT NULL            -- JSON object
);
CREATE INDEX set_aside_space ON set_aside (space, number);
