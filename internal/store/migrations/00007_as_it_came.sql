-- +goose Up

-- What is kept of a callback has its secrets masked. Until it has been read, what
-- masking changed in it is kept here, as it came.
ALTER TABLE to_read ADD COLUMN came jsonb; -- query, header, body in base64; NULL: it is as it came
UPDATE to_read SET came = jsonb_build_object('query', query) WHERE query IS NOT NULL;
ALTER TABLE to_read DROP COLUMN query;
