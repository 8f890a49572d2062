-- +goose Up

-- The key that made a key; NULL: it was made in the database itself, or before this was kept.
ALTER TABLE keys ADD COLUMN made_by uuid REFERENCES keys;
