-- Several connections write, each for spaces of its own: whoever writes to a space owns it under a term, and every batch is written
-- only while that term holds. The space 0 stands for what belongs to no space.
CREATE TABLE space_owner (
    space       bigint PRIMARY KEY,
    term        bigint NOT NULL,
    incarnation uuid NOT NULL
) WITH (fillfactor = 50);

-- The newest batches of each space: by them a commit whose answer was lost is known to have happened, or not.
CREATE TABLE batch_done (
    space       bigint NOT NULL,
    batch       bigint NOT NULL,
    term        bigint NOT NULL,
    PRIMARY KEY (space, batch)
);

-- RV001: the term is over. RV002: the batch before this one is not stored.
CREATE FUNCTION rovett_fence(of_space bigint, of_term bigint, by uuid, number bigint, is_first boolean) RETURNS void
LANGUAGE plpgsql AS $$ BEGIN
    PERFORM 1 FROM space_owner WHERE space = of_space AND term = of_term AND incarnation = by FOR NO KEY UPDATE;
    IF NOT FOUND THEN RAISE EXCEPTION 'space % has another owner', of_space USING ERRCODE = 'RV001'; END IF;
    IF NOT is_first AND NOT EXISTS (SELECT 1 FROM batch_done WHERE space = of_space AND batch = number - 1) THEN
        RAISE EXCEPTION 'space % has lost its batch %', of_space, number - 1 USING ERRCODE = 'RV002';
    END IF;
    INSERT INTO batch_done (space, batch, term) VALUES (of_space, number, of_term);
END $$;

CREATE FUNCTION rovett_holds(of_space bigint, of_term bigint, by uuid) RETURNS void
LANGUAGE plpgsql AS $$ BEGIN
    PERFORM 1 FROM space_owner WHERE space = of_space AND term = of_term AND incarnation = by;
    IF NOT FOUND THEN RAISE EXCEPTION 'space % has another owner', of_space USING ERRCODE = 'RV001'; END IF;
END $$;

CREATE FUNCTION rovett_space_gone() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    DELETE FROM batch_done WHERE space = OLD.id;
    DELETE FROM space_owner WHERE space = OLD.id;
    RETURN OLD;
END $$;
CREATE TRIGGER space_gone AFTER DELETE ON space FOR EACH ROW EXECUTE FUNCTION rovett_space_gone();

-- Numbers of logs and people are drawn in blocks, so that writers need not know of each other's.
CREATE SEQUENCE log_block INCREMENT 1000;
CREATE SEQUENCE person_block INCREMENT 1000;
SELECT setval('log_block', (SELECT coalesce(max(id), 0) + 1 FROM log), false);
SELECT setval('person_block', (SELECT coalesce(max(id), 0) + 1 FROM person), false);

ALTER TABLE store DROP COLUMN batch;

-- Old answers go space by space.
DROP INDEX answer_time;
CREATE INDEX answer_time ON answer (space, time);
