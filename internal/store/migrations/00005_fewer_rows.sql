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
