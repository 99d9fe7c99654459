-- Which of a key set's keys a ticket's token was signed with; empty: not known.
ALTER TABLE ticket ADD COLUMN key_id TEXT NOT NULL DEFAULT '';
CREATE INDEX ticket_user ON ticket (space, user);

-- Operators' sessions: the cookie has a random secret, stored as SHA-256, so that a session ends here and nowhere else.
CREATE TABLE operator_session (
    hash          BLOB PRIMARY KEY,
    operator      TEXT NOT NULL,
    made          INTEGER NOT NULL,      -- when the operator was made: another by the same name is somebody else
    began         INTEGER NOT NULL,
    ends          INTEGER NOT NULL,
    address       TEXT NOT NULL,
    agent         TEXT NOT NULL
) WITHOUT ROWID;
CREATE INDEX operator_session_operator ON operator_session (operator);
