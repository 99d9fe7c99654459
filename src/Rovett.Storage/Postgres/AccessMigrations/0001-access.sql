-- Credentials: who may do what. Secrets are stored as SHA-256 of the secret, but for those that must be used as they are: signing keys,
-- and what signs calls of webhooks and deciders. Times in microseconds.

CREATE TABLE api_key (
    id          text PRIMARY KEY,
    space       text NOT NULL,
    name        text NOT NULL,
    hash        bytea NOT NULL UNIQUE,
    scopes      text NOT NULL,              -- comma-separated: send, read, admin
    types       text NOT NULL DEFAULT '',   -- JSON array of types, exact or ending in *; empty: any
    addresses   text NOT NULL DEFAULT '',   -- JSON array of addresses, exact or ending in *; empty: any
    events      text NOT NULL DEFAULT '',   -- JSON array of types of events
    sources     text NOT NULL DEFAULT '',   -- JSON array of sources of events
    created     bigint NOT NULL,
    last_used   bigint,
    ends        bigint,                     -- holds until then; null: until it is revoked
    revoked     bigint
);
CREATE INDEX api_key_space ON api_key (space);
CREATE TABLE signing_key (
    space       text NOT NULL,
    name        text NOT NULL,
    kind        bigint NOT NULL,            -- 1 secret, 2 public key (JWK), 3 key set (JWKS) at an address, 4 issuer (OpenID Connect)
    kid         text,                       -- the token header's kid that names it; null: any
    value       bytea NOT NULL,
    created     bigint NOT NULL,
    PRIMARY KEY (space, name)
);
CREATE TABLE ticket (
    hash        bytea PRIMARY KEY,
    space       text NOT NULL,
    "user"      text NOT NULL,
    roles       text NOT NULL,              -- JSON array
    issued_at   bigint NOT NULL,            -- the token's iat
    expires     bigint NOT NULL,            -- the token's exp
    opens_until bigint NOT NULL,
    opened      bigint,
    device      text,
    origin      text,
    signing_key text NOT NULL DEFAULT 'first',
    key_id      text NOT NULL DEFAULT '',   -- which of a key set's keys its token was signed with; empty: not known
    claims      text NOT NULL DEFAULT '',   -- of its token, those that policies look at: JSON
    comes_back  bigint NOT NULL DEFAULT 1   -- opened by a stream that reconnects by itself
);
CREATE INDEX ticket_expires ON ticket (expires);
CREATE INDEX ticket_user ON ticket (space, "user");
CREATE TABLE operator (
    name        text PRIMARY KEY,
    may         text NOT NULL,              -- view, operate
    password    text NOT NULL,
    created     bigint NOT NULL
);
CREATE TABLE operator_session (
    hash        bytea PRIMARY KEY,
    operator    text NOT NULL,
    made        bigint NOT NULL,            -- when the operator was made: another by the same name is somebody else
    began       bigint NOT NULL,
    ends        bigint NOT NULL,
    address     text NOT NULL,
    agent       text NOT NULL
);
CREATE INDEX operator_session_operator ON operator_session (operator);
CREATE TABLE signup_link (
    hash        bytea PRIMARY KEY,
    may         text NOT NULL,
    expires     bigint NOT NULL
);
CREATE TABLE sign_in (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    operator    text NOT NULL,
    time        bigint NOT NULL,
    address     text NOT NULL,
    agent       text NOT NULL,              -- the browser's own words, cut
    signed_in   bigint NOT NULL             -- 0: refused
);
CREATE TABLE webhook (
    space       text NOT NULL,
    name        text NOT NULL,
    url         text NOT NULL,
    secret      bytea NOT NULL,
    states      text NOT NULL,              -- comma-separated; empty: all
    types       text NOT NULL,              -- comma-separated, exact or ending in *; empty: all
    created     bigint NOT NULL,
    delivered   bigint NOT NULL,            -- receipts up to this number are delivered, or not wanted
    failures    bigint NOT NULL DEFAULT 0,  -- attempts since the last success
    error       text,                       -- of the last attempt
    tried       bigint,                     -- when it was
    next        bigint NOT NULL DEFAULT 0,  -- not before this time
    ended       bigint,                     -- the receiver said 410: it wants no more
    purpose     text NOT NULL DEFAULT 'receipts',
    PRIMARY KEY (space, name)
);
CREATE TABLE decider (
    space         text NOT NULL,
    name          text NOT NULL,
    url           text NOT NULL,
    secret        bytea NOT NULL,
    timeout_ms    bigint NOT NULL,
    allow_seconds bigint NOT NULL,          -- how long an answer holds that does not say so itself
    deny_seconds  bigint NOT NULL,
    created       bigint NOT NULL,
    PRIMARY KEY (space, name)
);
CREATE TABLE space_settings (
    space       text PRIMARY KEY,
    settings    text NOT NULL,              -- JSON: what was set; the rest is as the service has it
    changed     bigint NOT NULL
);

-- Appended to, never changed.
CREATE TABLE audit (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    space       text NOT NULL,
    time        bigint NOT NULL,
    actor       text NOT NULL,              -- key:<id> <name>, operator:<name>, service
    act         text NOT NULL,              -- such as api-key.made
    about       text NOT NULL,              -- what it was done to
    detail      text NOT NULL               -- JSON object, without secrets
);
CREATE INDEX audit_space ON audit (space, id);
CREATE FUNCTION audit_keeps() RETURNS trigger LANGUAGE plpgsql AS $body$
BEGIN
    RAISE EXCEPTION 'the audit trail is append-only';
END
$body$;
CREATE TRIGGER audit_keeps BEFORE UPDATE OR DELETE OR TRUNCATE ON audit FOR EACH STATEMENT EXECUTE FUNCTION audit_keeps();

-- Where a space's own part of the trail begins, when another by its name was before it.
CREATE TABLE space_start (
    space         text PRIMARY KEY,
    audit_after   bigint NOT NULL
);

-- What the meters counted, a row for each span of time: space '' is the whole service. Times and lengths in seconds.
CREATE TABLE meter_span (
    space       text NOT NULL,
    length      bigint NOT NULL,
    start       bigint NOT NULL,
    counted     text NOT NULL,              -- a JSON object
    PRIMARY KEY (space, length, start)
);

-- When the service started, with its version.
CREATE TABLE service_start (time bigint PRIMARY KEY, version text NOT NULL);
