-- Where an intake has read its source to, stored in the commit of what was read; and whether it is paused.
CREATE TABLE intake (
    space INTEGER NOT NULL,
    name TEXT NOT NULL,
    paused INTEGER NOT NULL,
    PRIMARY KEY (space, name)
) WITHOUT ROWID;
CREATE TABLE intake_position (
    space INTEGER NOT NULL,
    intake TEXT NOT NULL,
    part TEXT NOT NULL,
    place TEXT NOT NULL,
    PRIMARY KEY (space, intake, part)
) WITHOUT ROWID;
-- What a source hands over twice is set aside once.
ALTER TABLE set_aside ADD COLUMN origin TEXT;
CREATE UNIQUE INDEX set_aside_origin ON set_aside (space, origin) WHERE origin IS NOT NULL;
