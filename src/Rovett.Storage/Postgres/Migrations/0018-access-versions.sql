-- What processes keep in memory of credentials, settings and spaces: a version for each kind of it in each space, drawn in the
-- transaction that changed it. Who has read up to a version is told nothing twice and misses nothing.
CREATE TABLE access_version (
    space       text NOT NULL,              -- '': of all spaces
    kind        text NOT NULL,              -- api-keys, signing-keys, key-sets, settings, deciders, webhooks, operators, spaces, ...
    version     bigint NOT NULL,
    PRIMARY KEY (space, kind)
) WITH (fillfactor = 50);
CREATE INDEX access_version_version ON access_version (version);

-- One row, so that versions become visible in the order in which they were drawn.
CREATE TABLE access_head (one boolean PRIMARY KEY DEFAULT true CHECK (one), version bigint NOT NULL) WITH (fillfactor = 50);
INSERT INTO access_head (version) VALUES (0);

CREATE FUNCTION rovett_changed(of_space text, what text) RETURNS void LANGUAGE plpgsql AS $$
DECLARE drawn bigint;
BEGIN
    UPDATE access_head SET version = version + 1 RETURNING version INTO drawn;
    INSERT INTO access_version (space, kind, version) VALUES (of_space, what, drawn)
    ON CONFLICT (space, kind) DO UPDATE SET version = drawn;
    PERFORM pg_notify('rovett_access', '');
END $$;

CREATE FUNCTION rovett_credential_changed() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    PERFORM rovett_changed(coalesce(NEW.space, OLD.space), TG_ARGV[0]);
    RETURN NULL;
END $$;

CREATE FUNCTION rovett_operator_changed() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    PERFORM rovett_changed('', 'operators');
    RETURN NULL;
END $$;

CREATE FUNCTION rovett_document_changed() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE of_space text;
BEGIN
    SELECT name INTO of_space FROM space WHERE id = NEW.key >> 44;
    IF FOUND THEN PERFORM rovett_changed(of_space, TG_ARGV[0]); END IF;
    RETURN NULL;
END $$;

CREATE FUNCTION rovett_space_changed() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    IF TG_OP = 'DELETE' THEN
        DELETE FROM access_version v WHERE space <> '' AND NOT EXISTS (SELECT 1 FROM space s WHERE s.name = v.space);
    ELSE
        PERFORM rovett_changed('', 'spaces');
    END IF;
    RETURN NULL;
END $$;

-- At the end of a transaction, when all other rows are locked already: the head is locked last, by all.
CREATE CONSTRAINT TRIGGER changed AFTER DELETE ON api_key
    DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION rovett_credential_changed('api-keys');
CREATE CONSTRAINT TRIGGER changed_row AFTER UPDATE ON api_key
    DEFERRABLE INITIALLY DEFERRED FOR EACH ROW
    WHEN ((OLD.ends, OLD.revoked, OLD.scopes) IS DISTINCT FROM (NEW.ends, NEW.revoked, NEW.scopes))
    EXECUTE FUNCTION rovett_credential_changed('api-keys');
CREATE CONSTRAINT TRIGGER changed AFTER INSERT OR UPDATE OR DELETE ON signing_key
    DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION rovett_credential_changed('signing-keys');
CREATE CONSTRAINT TRIGGER changed AFTER INSERT OR UPDATE OR DELETE ON space_settings
    DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION rovett_credential_changed('settings');
CREATE CONSTRAINT TRIGGER changed AFTER INSERT OR UPDATE OR DELETE ON decider
    DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION rovett_credential_changed('deciders');
CREATE CONSTRAINT TRIGGER changed AFTER INSERT OR DELETE ON webhook
    DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION rovett_credential_changed('webhooks');
CREATE CONSTRAINT TRIGGER changed_row AFTER UPDATE ON webhook
    DEFERRABLE INITIALLY DEFERRED FOR EACH ROW
    WHEN ((OLD.url, OLD.secret, OLD.states, OLD.types, OLD.created, OLD.ended, OLD.purpose)
        IS DISTINCT FROM (NEW.url, NEW.secret, NEW.states, NEW.types, NEW.created, NEW.ended, NEW.purpose))
    EXECUTE FUNCTION rovett_credential_changed('webhooks');
CREATE CONSTRAINT TRIGGER changed AFTER UPDATE OR DELETE ON operator
    DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION rovett_operator_changed();
CREATE CONSTRAINT TRIGGER changed AFTER INSERT ON policies
    DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION rovett_document_changed('policies');
CREATE CONSTRAINT TRIGGER changed AFTER INSERT ON catalogue
    DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION rovett_document_changed('types');
CREATE CONSTRAINT TRIGGER changed AFTER INSERT OR DELETE ON space
    DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION rovett_space_changed();
CREATE CONSTRAINT TRIGGER changed_row AFTER UPDATE ON space
    DEFERRABLE INITIALLY DEFERRED FOR EACH ROW WHEN (OLD.name IS DISTINCT FROM NEW.name)
    EXECUTE FUNCTION rovett_space_changed();
