-- Where an intake has read its source to, stored in the commit of what was read; and whether it is paused.
CREATE TABLE intake (
    space BIGINT NOT NULL,
    name TEXT NOT NULL,
    paused BIGINT NOT NULL,
    PRIMARY KEY (space, name)
);
CREATE TABLE intake_position (
    space BIGINT NOT NULL,
    intake TEXT NOT NULL,
    part TEXT NOT NULL,
    place TEXT NOT NULL,
    PRIMARY KEY (space, intake, part)
);
-- What a source hands over twice is set aside once.
ALTER TABLE set_aside ADD COLUMN origin TEXT;
CREATE UNIQUE INDEX set_aside_origin ON set_aside (space, origin) WHERE origin IS NOT NULL;
