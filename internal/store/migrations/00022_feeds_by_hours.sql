-- +goose Up

-- Rows that are let out together may go at the same hours.
ALTER TABLE batch_feeds ADD COLUMN hours text NOT NULL DEFAULT '';
