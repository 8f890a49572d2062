-- +goose Up

-- The message that answers who opted out, which goes all the same.
ALTER TABLE opt_outs ADD COLUMN answer uuid;
