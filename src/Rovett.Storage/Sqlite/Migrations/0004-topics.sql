-- Topics: who follows which, and who may do what on them.
ALTER TABLE person ADD COLUMN claims TEXT NOT NULL DEFAULT ''; -- what the newest token says that policies look at: JSON
ALTER TABLE person ADD COLUMN rules_seen INTEGER;              -- up to which change of rules it is settled what the user may follow; null: follows nothing

CREATE TABLE follow (
    person      INTEGER NOT NULL,
    topic       TEXT NOT NULL,
    since       INTEGER NOT NULL,        -- a position
    PRIMARY KEY (person, topic)
) WITHOUT ROWID;

-- Each version of a space's policies, by the key of the entry that loaded it (space << 44 | position).
CREATE TABLE policies (
    key         INTEGER PRIMARY KEY,
    time        INTEGER NOT NULL,
    document    BLOB NOT NULL            -- JSON, as it was loaded
);

-- Permissions on single topics; number: the position of the entry that gave it. A user's that has ended is removed,
-- a role's is kept with its end, for those who were away.
CREATE TABLE topic_grant (
    space       INTEGER NOT NULL,
    number      INTEGER NOT NULL,
    person      INTEGER NOT NULL,        -- 0: a role's
    role        TEXT NOT NULL,           -- empty: a user's
    topic       TEXT NOT NULL,
    rights      INTEGER NOT NULL,        -- 1 subscribe, 2 follow, 4 say, 8 presence
    until       INTEGER,                 -- microseconds; null: until it is ended
    ended       INTEGER,                 -- the position of the entry that ended it
    policy      TEXT NOT NULL,           -- the policy by which the backend was asked; empty: given by the API
    profile     TEXT NOT NULL,           -- what the backend said of the person: JSON; empty: nothing
    PRIMARY KEY (space, number)
) WITHOUT ROWID;
CREATE INDEX topic_grant_topic ON topic_grant (space, topic);
CREATE INDEX topic_grant_person ON topic_grant (person) WHERE person <> 0;
CREATE INDEX topic_grant_role ON topic_grant (space, number) WHERE role <> '';
CREATE INDEX topic_grant_ended ON topic_grant (space, ended) WHERE role <> '' AND ended IS NOT NULL;
