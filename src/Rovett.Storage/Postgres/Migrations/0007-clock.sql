-- What is known of the clock, in microseconds (ServiceClock).
ALTER TABLE store ADD COLUMN clock_shift BIGINT NOT NULL DEFAULT 0;      -- how far the believed time is ahead of the due time
ALTER TABLE store ADD COLUMN clock_held_back BIGINT NOT NULL DEFAULT 0;  -- how far retention's time is behind the believed time
ALTER TABLE store ADD COLUMN clock_held_since BIGINT NOT NULL DEFAULT 0; -- the due time since when
ALTER TABLE store ADD COLUMN seen_time BIGINT NOT NULL DEFAULT 0;        -- the believed time when this was stored
ALTER TABLE store ADD COLUMN seen_due BIGINT NOT NULL DEFAULT 0;         -- the due time then
ALTER TABLE store ADD COLUMN seen_boot TEXT COLLATE "C" NOT NULL DEFAULT '';       -- the machine's boot then
ALTER TABLE store ADD COLUMN seen_elapsed BIGINT NOT NULL DEFAULT 0;     -- the elapsed time in that boot
