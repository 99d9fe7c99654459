-- Old answers go space by space.
DROP INDEX answer_time;
CREATE INDEX answer_time ON answer (space, time);

ALTER TABLE store DROP COLUMN batch;
