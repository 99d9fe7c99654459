-- Who was signed out (credentials made before valid_from, in microseconds, do not hold) or is blocked.
ALTER TABLE person ADD COLUMN valid_from BIGINT NOT NULL DEFAULT 0;
ALTER TABLE person ADD COLUMN blocked BIGINT NOT NULL DEFAULT 0;
