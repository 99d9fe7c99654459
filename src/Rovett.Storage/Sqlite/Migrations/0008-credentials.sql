-- Tokens whose iat lay ahead of this service's clock when they were shown: iat in microseconds, joined by commas; below zero: it
-- was shown before a sign-out, and does not hold any more.
ALTER TABLE person ADD COLUMN ahead TEXT NOT NULL DEFAULT '';

-- Ids of erased people, as keyed hashes, for as long as a token made before may still run.
CREATE TABLE tombstone (
    space       INTEGER NOT NULL,
    id_hash     BLOB NOT NULL,
    valid_from  INTEGER NOT NULL,        -- credentials made before do not hold
    number      INTEGER NOT NULL,        -- the person's
    PRIMARY KEY (space, id_hash)
) WITHOUT ROWID;

-- Erasures under way, which go on after a restart: what is left to look at, and from where on.
CREATE TABLE erasure (
    space       INTEGER NOT NULL,
    person      INTEGER NOT NULL,
    name        TEXT NOT NULL,          -- the id that is erased, until this is done
    log         INTEGER NOT NULL,        -- the personal log
    position    INTEGER NOT NULL,        -- the entry that says so: what comes after is another person's
    receipt     INTEGER NOT NULL,        -- the newest receipt then
    stage       INTEGER NOT NULL,
    at          INTEGER NOT NULL,        -- how far the stage is
    scrubbed    INTEGER NOT NULL,        -- notifications scrubbed so far
    began       INTEGER NOT NULL,
    PRIMARY KEY (space, person)
) WITHOUT ROWID;

-- The position of the entry that opened an interval; after may lie before it, by what newcomers see.
ALTER TABLE membership ADD COLUMN gained INTEGER NOT NULL DEFAULT 0;
UPDATE membership SET gained = after;
-- The position at which what the newest token says, that policies look at, last changed.
ALTER TABLE person ADD COLUMN claims_at INTEGER NOT NULL DEFAULT 0;

-- From which position on a grant holds: an answer of the backend that took the place of another holds since that did.
ALTER TABLE topic_grant ADD COLUMN since INTEGER NOT NULL DEFAULT 0;
UPDATE topic_grant SET since = number;
CREATE INDEX topic_grant_past ON topic_grant (space, ended) WHERE role = '' AND ended IS NOT NULL;
