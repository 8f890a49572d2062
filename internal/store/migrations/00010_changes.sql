-- +goose Up

-- Who changed what of what is set, and when. Written by the transaction that
-- changes it, and never changed itself.
CREATE TABLE changes (
    id      bigint      GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at      timestamptz NOT NULL DEFAULT clock_timestamp(),
    by_whom text        NOT NULL, -- the name of a key, or what else did it
    what    text        NOT NULL, -- gateway, sender, default, rule, template, route, prices, key
    name    text        NOT NULL,
    action  text        NOT NULL, -- added, changed, removed
    before  jsonb,                -- what differs, as it was; NULL of what was added
    after   jsonb                 -- as it is; NULL of what was removed
);
CREATE INDEX changes_of ON changes (what, name, id);

-- +goose StatementBegin
CREATE FUNCTION changes_stay() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'what was changed, and by whom, stays written down';
END $$;

-- Its arguments: what it is, the column of its name, then columns that are not
-- told. Of those whose names begin with sealed_ it is told that they changed.
CREATE FUNCTION note_change() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    old_row jsonb := CASE WHEN TG_OP <> 'INSERT' THEN to_jsonb(OLD) END;
    new_row jsonb := CASE WHEN TG_OP <> 'DELETE' THEN to_jsonb(NEW) END;
    called text := coalesce(new_row, old_row) ->> TG_ARGV[1];
    was text := CASE TG_OP WHEN 'INSERT' THEN 'added' WHEN 'DELETE' THEN 'removed' ELSE 'changed' END;
    untold text[] := TG_ARGV[2:];
    field text;
BEGIN
    IF TG_ARGV[1] = 'gateway_id' THEN
        SELECT g.name INTO called FROM gateways g WHERE g.id = called::uuid;
    END IF;
    IF TG_OP = 'UPDATE' THEN
        FOR field IN SELECT jsonb_object_keys(new_row) LOOP
            IF old_row -> field IS NOT DISTINCT FROM new_row -> field THEN
                old_row := old_row - field;
                new_row := new_row - field;
            END IF;
        END LOOP;
        IF new_row - untold = '{}' THEN
            RETURN NULL;
        END IF;
        IF new_row ->> 'removed_at' IS NOT NULL OR new_row ->> 'revoked_at' IS NOT NULL THEN
            was := 'removed';
        END IF;
    END IF;
    FOR field IN SELECT jsonb_object_keys(coalesce(new_row, old_row)) LOOP
        IF field LIKE 'sealed\_%' THEN
            old_row := old_row - field || jsonb_build_object(substr(field, 8), 'sealed');
            new_row := new_row - field || jsonb_build_object(substr(field, 8), 'sealed');
        END IF;
    END LOOP;
    INSERT INTO changes (by_whom, what, name, action, before, after)
    VALUES (coalesce(nullif(current_setting('pigeon.by', true), ''), 'the service'), TG_ARGV[0], called, was,
        old_row - untold, new_row - untold);
    RETURN NULL;
END $$;
-- +goose StatementEnd

CREATE TRIGGER stays BEFORE UPDATE OR DELETE ON changes FOR EACH ROW EXECUTE FUNCTION changes_stay();
CREATE TRIGGER stays_whole BEFORE TRUNCATE ON changes FOR EACH STATEMENT EXECUTE FUNCTION changes_stay();

-- Which prices a list has, in short, so that a change of them is one of the list.
ALTER TABLE price_lists ADD COLUMN entries integer NOT NULL DEFAULT 0, ADD COLUMN digest text NOT NULL DEFAULT '';

CREATE TRIGGER noted AFTER INSERT OR UPDATE OR DELETE ON gateways FOR EACH ROW
    EXECUTE FUNCTION note_change('gateway', 'name', 'id', 'version', 'created_at', 'sealed_callback', 'callback');
CREATE TRIGGER noted AFTER INSERT OR UPDATE OR DELETE ON senders FOR EACH ROW
    EXECUTE FUNCTION note_change('sender', 'id', 'created_at');
CREATE TRIGGER noted AFTER INSERT OR UPDATE OR DELETE ON sender_defaults FOR EACH ROW
    EXECUTE FUNCTION note_change('default', 'sender_id');
CREATE TRIGGER noted AFTER INSERT OR UPDATE OR DELETE ON country_rules FOR EACH ROW
    EXECUTE FUNCTION note_change('rule', 'country', 'changed_at', 'changed_by');
CREATE TRIGGER noted AFTER INSERT OR UPDATE OR DELETE ON templates FOR EACH ROW
    EXECUTE FUNCTION note_change('template', 'name', 'created_at', 'changed_at');
CREATE TRIGGER noted AFTER INSERT OR UPDATE OR DELETE ON routes FOR EACH ROW
    EXECUTE FUNCTION note_change('route', 'name', 'changed_at', 'changed_by');
CREATE TRIGGER noted AFTER INSERT OR UPDATE OR DELETE ON price_lists FOR EACH ROW
    EXECUTE FUNCTION note_change('prices', 'gateway_id', 'gateway_id', 'changed_at', 'changed_by');
CREATE TRIGGER noted AFTER INSERT OR DELETE OR UPDATE OF name, revoked_at, cure ON keys FOR EACH ROW
    EXECUTE FUNCTION note_change('key', 'name', 'id', 'hash', 'handle', 'created_at', 'last_used_at');
