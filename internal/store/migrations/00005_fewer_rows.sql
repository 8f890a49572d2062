-- +goose Up

-- What is read in order to be written is not locked any more: that nobody else
-- wrote it meanwhile shows when it is written.
ALTER TABLE standings ADD COLUMN version integer NOT NULL DEFAULT 0; -- counted up by each change

-- +goose StatementBegin
CREATE FUNCTION all_written(written bigint, wanted bigint) RETURNS boolean LANGUAGE plpgsql AS $$
BEGIN
    IF written <> wanted THEN
        RAISE EXCEPTION 'only % of % messages are as they were read', written, wanted USING ERRCODE = 'serialization_failure';
    END IF;
    RETURN true;
END $$;
-- +goose StatementEnd

-- Raw exchanges of one moment are packed together: a JSON array, compressed
-- (RFC 8878) or, where it begins with [, as it is. The id of an exchange is that
-- of its pack but for the last 16 bits, which are its number.
CREATE TABLE exchange_packs (
    id     uuid  NOT NULL PRIMARY KEY,
    packed bytea NOT NULL
) PARTITION BY RANGE (id);
ALTER TABLE exchange_packs ALTER COLUMN packed SET STORAGE EXTERNAL;

-- +goose StatementBegin
DO $$
DECLARE part record;
BEGIN
    FOR part IN
        SELECT substr(c.relname, length('exchanges_') + 1) AS month, pg_get_expr(c.relpartbound, c.oid) AS bounds
        FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid WHERE i.inhparent = 'exchanges'::regclass
    LOOP
        EXECUTE format('CREATE TABLE exchange_packs_%s PARTITION OF exchange_packs %s WITH (toast_tuple_target = 8160)', part.month, part.bounds);
    END LOOP;
END $$;
-- +goose StatementEnd

-- The lock waits for rows that another instance is writing, so that they are packed too.
LOCK TABLE exchanges IN ACCESS EXCLUSIVE MODE;
INSERT INTO exchange_packs (id, packed)
SELECT (left(id::text, 32) || '0000')::uuid, convert_to(json_agg(json_build_object(
    'n', ('x' || right(id::text, 4))::bit(16)::integer, 'gateway', gateway_id, 'purpose', purpose, 'method', method, 'url', url,
    'asked', request_header, 'request64', translate(encode(request_body, 'base64'), E'\n', ''), 'status', status,
    'answered', reply_header, 'reply64', translate(encode(reply_body, 'base64'), E'\n', ''), 'error', error,
    'at', to_char(started_at AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"'), 'us', took_us))::text, 'UTF8')
FROM exchanges GROUP BY 1;
DROP TABLE exchanges;

-- That a gateway took a message, and said nothing else of it, is told by the
-- submission.
ALTER TABLE submissions
    ADD COLUMN taken_at timestamptz,  -- when it said so; NULL: it did not, or the evidence tells
    ADD COLUMN taken_ref text,        -- the id that it gave then; NULL: the one that still stands
    ADD COLUMN exchange_id uuid;      -- in which it said so

-- Whether anything was set since it was read: instances ask every few moments.
CREATE TABLE settings_changes (n bigint NOT NULL);
INSERT INTO settings_changes VALUES (1);
-- +goose StatementBegin
CREATE FUNCTION settings_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE settings_changes SET n = n + 1;
    RETURN NULL;
END $$;
DO $$
DECLARE settings text;
BEGIN
    FOREACH settings IN ARRAY ARRAY['gateways', 'gateway_health', 'senders', 'sender_defaults', 'country_rules', 'templates', 'prices',
        'price_lists', 'routes']
    LOOP
        EXECUTE format('CREATE TRIGGER changed AFTER INSERT OR UPDATE OR DELETE OR TRUNCATE ON %I
            FOR EACH STATEMENT EXECUTE FUNCTION settings_changed()', settings);
    END LOOP;
END $$;
-- +goose StatementEnd
