-- Several signing keys a space, so that one can follow another with both in force, and the space's own settings.

CREATE TABLE signing_key_2 (
    space       TEXT NOT NULL,
    name        TEXT NOT NULL,
    kind        INTEGER NOT NULL,        -- 1 secret, 2 public key (JWK), 3 key set (JWKS) at an address, 4 issuer (OpenID Connect)
    kid         TEXT,                    -- the token header's kid that names it; null: any
    value       BLOB NOT NULL,           -- the secret as it is, because it must be used; or the JWK; or the address
    created     INTEGER NOT NULL,
    PRIMARY KEY (space, name)
) WITHOUT ROWID;
INSERT INTO signing_key_2 (space, name, kind, value, created) SELECT space, 'first', 1, secret, created FROM signing_key;
DROP TABLE signing_key;
ALTER TABLE signing_key_2 RENAME TO signing_key;

CREATE TABLE space_settings (
    space       TEXT PRIMARY KEY,
    settings    TEXT NOT NULL,           -- JSON: what was set; the rest is as the service has it
    changed     INTEGER NOT NULL
) WITHOUT ROWID;

ALTER TABLE ticket ADD COLUMN signing_key TEXT NOT NULL DEFAULT 'first'; -- the name of the key that its token was signed with
