-- +goose Up

-- How long a slot is, in seconds: at any moment of it the messages may have gone. Slots of the version before are taken
-- to be a minute long.
ALTER TABLE gateway_paces ADD COLUMN width integer NOT NULL DEFAULT 60;
