-- Tokens whose iat lay ahead of this service's clock when they were shown: iat in microseconds, joined by commas; below zero: it
-- was shown before a sign-out, and does not hold any more.
ALTER TABLE person ADD COLUMN ahead TEXT COLLATE "C" NOT NULL DEFAULT '';

-- Ids of erased people, as keyed hashes, for as long as a token made before may still run.
CREATE TABLE tombstone (
    space       BIGINT NOT NULL,
    id_hash     BYTEA NOT NULL,
    valid_from  BIGINT NOT NULL,        -- credentials made before do not hold
    number      BIGINT NOT NULL,        -- the person's
    PRIMARY KEY (space, id_hash)
);

-- Erasures under way, which go on after a restart: what is left to look at, and from where on.
CREATE TABLE erasure (
    space       BIGINT NOT NULL,
    person      BIGINT NOT NULL,
    name        TEXT COLLATE "C" NOT NULL,          -- the id that is erased, until this is done
    log         BIGINT NOT NULL,        -- the personal log
    position    BIGINT NOT NULL,        -- the entry that says so: what comes after is another person's
    receipt     BIGINT NOT NULL,        -- the newest receipt then
    stage       BIGINT NOT NULL,
    at          BIGINT NOT NULL,        -- how far the stage is
    scrubbed    BIGINT NOT NULL,        -- notifications scrubbed so far
    began       BIGINT NOT NULL,
    PRIMARY KEY (space, person)
);

-- The position of the entry that opened an interval; after may lie before it, by what newcomers see.
ALTER TABLE membership ADD COLUMN gained BIGINT NOT NULL DEFAULT 0;
UPDATE membership SET gained = after;
-- The position at which what the newest token says, that policies look at, last changed.
ALTER TABLE person ADD COLUMN claims_at BIGINT NOT NULL DEFAULT 0;

-- From which position on a grant holds: an answer of the backend that took the place of another holds since that did.
ALTER TABLE topic_grant ADD COLUMN since BIGINT NOT NULL DEFAULT 0;
UPDATE topic_grant SET since = number;
CREATE INDEX topic_grant_past ON topic_grant (space, ended) WHERE role = '' AND ended IS NOT NULL;
