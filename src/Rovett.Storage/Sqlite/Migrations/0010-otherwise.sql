-- What is done when a deadline is missed, and what became of it.
CREATE TABLE otherwise (
    space       INTEGER NOT NULL,
    position    INTEGER NOT NULL,        -- of the notification
    deadline    INTEGER NOT NULL,        -- its deadline's number
    item        INTEGER NOT NULL,
    kind        INTEGER NOT NULL,        -- 1 a notification, 2 a webhook, 3 an e-mail
    target      TEXT NOT NULL,           -- the addressing, the webhook's name, the mailbox
    title       TEXT,                    -- of an e-mail
    text        TEXT,                    -- of an e-mail
    body        BLOB,                    -- of a notification
    type        TEXT,
    subject     TEXT,
    receipts    INTEGER NOT NULL,
    state       INTEGER NOT NULL,        -- 0 not needed yet, 1 waiting to be delivered, 2 done, 3 not needed any more, 4 set aside
    time        INTEGER,                 -- when it came to that
    sent        BLOB,                    -- the id of the notification sent
    always      INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (space, position, deadline, item)
) WITHOUT ROWID;
INSERT INTO otherwise (space, position, deadline, item, kind, target, body, type, subject, receipts, state)
    SELECT space, position, number, 0, 1, otherwise_addressing, otherwise_body, otherwise_type, otherwise_subject, 1,
        CASE state WHEN 0 THEN 0 WHEN 2 THEN 2 ELSE 3 END
    FROM deadline WHERE otherwise_addressing IS NOT NULL;
CREATE INDEX otherwise_mail ON otherwise (space, time) WHERE kind = 3 AND state = 2;
CREATE INDEX otherwise_waiting ON otherwise (space, target) WHERE kind = 2 AND state = 1;
ALTER TABLE deadline DROP COLUMN otherwise_addressing;
ALTER TABLE deadline DROP COLUMN otherwise_body;
ALTER TABLE deadline DROP COLUMN otherwise_type;
ALTER TABLE deadline DROP COLUMN otherwise_subject;

-- Webhook calls and e-mails that are to be made for missed deadlines.
CREATE TABLE outbound (
    number      INTEGER PRIMARY KEY AUTOINCREMENT,   -- never given twice: an attempt under way names it
    space       INTEGER NOT NULL,
    at          INTEGER NOT NULL,        -- not before this due time
    position    INTEGER NOT NULL,        -- of the notification
    deadline    INTEGER NOT NULL,
    item        INTEGER NOT NULL,
    begun       INTEGER NOT NULL,        -- due time at which it was added
    attempts    INTEGER NOT NULL,
    error       TEXT,                    -- of the last attempt
    detail      TEXT NOT NULL            -- JSON object: where to, and what
);
CREATE INDEX outbound_at ON outbound (space, at);
