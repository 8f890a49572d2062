-- +goose Up

-- Which table was changed last, by the count that settings_changes had then: an instance reads those tables only. Where
-- rows were removed, "<table> removed" says so too.
ALTER TABLE settings_changes ADD COLUMN tables jsonb NOT NULL DEFAULT '{}';
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION settings_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE settings_changes SET n = n + 1, tables = tables || jsonb_build_object(
        CASE WHEN TG_OP IN ('DELETE', 'TRUNCATE') THEN TG_TABLE_NAME || ' removed' ELSE TG_TABLE_NAME END, n + 1, TG_TABLE_NAME, n + 1);
    RETURN NULL;
END $$;

-- Of tables that may be long, each row says at which count it was changed. The count is raised before the rows are
-- written, and stays locked until they are committed: what was changed later has a higher one.
CREATE FUNCTION settings_row_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    NEW.as_of := (SELECT n FROM settings_changes);
    RETURN NEW;
END $$;
DO $$
DECLARE long text;
BEGIN
    FOREACH long IN ARRAY ARRAY['gateways', 'templates', 'passcode_blocks', 'passcode_alarms']
    LOOP
        EXECUTE format('ALTER TABLE %I ADD COLUMN as_of bigint NOT NULL DEFAULT 0', long);
        EXECUTE format('CREATE INDEX ON %I (as_of)', long);
        EXECUTE format('DROP TRIGGER changed ON %I', long);
        EXECUTE format('CREATE TRIGGER changed BEFORE INSERT OR UPDATE OR DELETE OR TRUNCATE ON %I
            FOR EACH STATEMENT EXECUTE FUNCTION settings_changed()', long);
        EXECUTE format('CREATE TRIGGER row_changed BEFORE INSERT OR UPDATE ON %I
            FOR EACH ROW EXECUTE FUNCTION settings_row_changed()', long);
    END LOOP;
END $$;
-- +goose StatementEnd

-- The audit log tells of neither.
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION note_change() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    old_row jsonb := CASE WHEN TG_OP <> 'INSERT' THEN to_jsonb(OLD) END;
    new_row jsonb := CASE WHEN TG_OP <> 'DELETE' THEN to_jsonb(NEW) END;
    called text := coalesce(new_row, old_row) ->> TG_ARGV[1];
    was text := CASE TG_OP WHEN 'INSERT' THEN 'added' WHEN 'DELETE' THEN 'removed' ELSE 'changed' END;
    untold text[] := TG_ARGV[2:] || ARRAY['as_of', 'json_bytes'];
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

-- How long a template is, so that all of them can be bounded.
ALTER TABLE templates ADD COLUMN json_bytes integer GENERATED ALWAYS AS (octet_length(template::text)) STORED;
