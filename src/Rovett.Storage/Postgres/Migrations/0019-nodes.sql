-- Several processes share a database: each space is served by one of them. A node is known by the address where the others reach it.
CREATE TABLE node (
    url         text PRIMARY KEY,
    incarnation uuid NOT NULL,
    version     text NOT NULL,
    speaks      int NOT NULL,             -- how nodes talk to each other
    certificate bytea,                    -- SHA-256 of what it shows the others; null: they talk without TLS
    joined      timestamptz NOT NULL,
    beat        timestamptz NOT NULL,
    leaving     boolean NOT NULL DEFAULT false
) WITH (fillfactor = 50);

-- Nobody's, or as operators want it.
ALTER TABLE space_owner ALTER COLUMN incarnation DROP NOT NULL;
ALTER TABLE space_owner ADD COLUMN wanted text;
