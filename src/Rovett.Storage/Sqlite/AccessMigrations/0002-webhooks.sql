-- Where receipts are posted to. The secret is stored as it is, because it signs what is sent.
CREATE TABLE webhook (
    space       TEXT NOT NULL,
    name        TEXT NOT NULL,
    url         TEXT NOT NULL,
    secret      BLOB NOT NULL,
    states      TEXT NOT NULL,           -- comma-separated; empty: all
    types       TEXT NOT NULL,           -- comma-separated, exact or ending in *; empty: all
    created     INTEGER NOT NULL,
    delivered   INTEGER NOT NULL,        -- receipts up to this number are delivered, or not wanted
    failures    INTEGER NOT NULL DEFAULT 0, -- attempts since the last success
    error       TEXT,                    -- of the last attempt
    tried       INTEGER,                 -- when it was
    next        INTEGER NOT NULL DEFAULT 0, -- not before this time
    ended       INTEGER,                 -- the receiver said 410: it wants no more
    PRIMARY KEY (space, name)
) WITHOUT ROWID;
