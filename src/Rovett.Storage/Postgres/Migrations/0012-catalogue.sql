-- Each version of a space's catalogue of types, by the key of the entry that loaded it (space << 44 | position).
CREATE TABLE catalogue (
    key         BIGINT PRIMARY KEY,
    time        BIGINT NOT NULL,
    document    BYTEA NOT NULL            -- YAML or JSON, as it was loaded, with rules beside it or without
);
