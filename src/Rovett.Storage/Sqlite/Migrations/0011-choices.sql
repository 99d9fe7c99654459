-- What people chose beside mutes: quiet hours (JSON; empty: none), and the rev of the last change of both.
ALTER TABLE person ADD COLUMN quiet TEXT NOT NULL DEFAULT '';
ALTER TABLE person ADD COLUMN choices_rev INTEGER NOT NULL DEFAULT 0;
