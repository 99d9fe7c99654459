-- Topics: who follows which, and who may do what on them.
ALTER TABLE person ADD COLUMN claims TEXT COLLATE "C" NOT NULL DEFAULT ''; -- what the newest token says that policies look at: JSON
ALTER TABLE person ADD COLUMN rules_seen BIGINT;              -- up to which change of rules it is settled what the user may follow; null: follows nothing

CREATE TABLE follow (
    person      BIGINT NOT NULL,
    topic       TEXT COLLATE "C" NOT NULL,
    since       BIGINT NOT NULL,        -- a position
    PRIMARY KEY (person, topic)
);

-- Each version of a space's policies, by the key of the entry that loaded it (space << 44 | position).
CREATE TABLE policies (
    key         BIGINT PRIMARY KEY,
    time        BIGINT NOT NULL,
    document    BYTEA NOT NULL            -- JSON, as it was loaded
);

-- Permissions on single topics; number: the position of the entry that gave it. A user's that has ended is removed,
-- a role's is kept with its end, for those who were away.
CREATE TABLE topic_grant (
    space       BIGINT NOT NULL,
    number      BIGINT NOT NULL,
    person      BIGINT NOT NULL,        -- 0: a role's
    role        TEXT COLLATE "C" NOT NULL,           -- empty: a user's
    topic       TEXT COLLATE "C" NOT NULL,
    rights      BIGINT NOT NULL,        -- 1 subscribe, 2 follow, 4 say, 8 presence
    until       BIGINT,                 -- microseconds; null: until it is ended
    ended       BIGINT,                 -- the position of the entry that ended it
    policy      TEXT COLLATE "C" NOT NULL,           -- the policy by which the backend was asked; empty: given by the API
    profile     TEXT COLLATE "C" NOT NULL,           -- what the backend said of the person: JSON; empty: nothing
    PRIMARY KEY (space, number)
);
CREATE INDEX topic_grant_topic ON topic_grant (space, topic);
CREATE INDEX topic_grant_person ON topic_grant (person) WHERE person <> 0;
CREATE INDEX topic_grant_role ON topic_grant (space, number) WHERE role <> '';
CREATE INDEX topic_grant_ended ON topic_grant (space, ended) WHERE role <> '' AND ended IS NOT NULL;
