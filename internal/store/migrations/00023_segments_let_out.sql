-- +goose Up

-- How many segments the rows have that were let out and not refused.
ALTER TABLE batch_feeds ADD COLUMN segments bigint NOT NULL DEFAULT 0;
