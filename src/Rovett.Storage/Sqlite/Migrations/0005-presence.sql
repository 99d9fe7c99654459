-- Whether those who hold a role see who else of it is connected.
ALTER TABLE role ADD COLUMN presence INTEGER NOT NULL DEFAULT 0;
