-- What a key is narrowed to, when it ends by itself, and what was done by whom.

ALTER TABLE api_key ADD COLUMN types TEXT NOT NULL DEFAULT '';      -- JSON array of types, exact or ending in *; empty: any
ALTER TABLE api_key ADD COLUMN addresses TEXT NOT NULL DEFAULT '';  -- JSON array of addresses, exact or ending in *; empty: any
ALTER TABLE api_key ADD COLUMN ends INTEGER;                        -- holds until then; null: until it is revoked

-- Appended to, never changed.
CREATE TABLE audit (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    space       TEXT NOT NULL,
    time        INTEGER NOT NULL,
    actor       TEXT NOT NULL,           -- key:<id> <name>, operator:<name>, service
    act         TEXT NOT NULL,           -- such as api-key.made
    about       TEXT NOT NULL,           -- what it was done to
    detail      TEXT NOT NULL            -- JSON object, without secrets
);
CREATE INDEX audit_space ON audit (space, id);
CREATE TRIGGER audit_keeps_rows BEFORE UPDATE ON audit BEGIN SELECT RAISE(ABORT, 'the audit trail is append-only'); END;
CREATE TRIGGER audit_keeps_all BEFORE DELETE ON audit BEGIN SELECT RAISE(ABORT, 'the audit trail is append-only'); END;
