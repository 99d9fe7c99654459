-- Who was signed out (credentials made before valid_from, in microseconds, do not hold) or is blocked.
ALTER TABLE person ADD COLUMN valid_from INTEGER NOT NULL DEFAULT 0;
ALTER TABLE person ADD COLUMN blocked INTEGER NOT NULL DEFAULT 0;
