-- The newest gathering when an erasure began: those that open later are another person's of the same id.
ALTER TABLE erasure ADD COLUMN gathering BIGINT NOT NULL DEFAULT 0;
UPDATE erasure SET gathering = coalesce((SELECT max(number) FROM gathering), 0);
