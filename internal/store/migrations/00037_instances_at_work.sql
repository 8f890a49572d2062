-- +goose Up

-- Whether it sends: a program that only makes a key, say, does not.
ALTER TABLE instances ADD COLUMN at_work boolean NOT NULL DEFAULT false;
