-- Whether those who hold a role see who else of it is connected.
ALTER TABLE role ADD COLUMN presence BIGINT NOT NULL DEFAULT 0;
