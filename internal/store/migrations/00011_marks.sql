-- +goose Up

-- Keyed hashes of the codes that a passcode holds, by which they are found in what a
-- gateway says later. Its text is gone by then: sealed is empty.
ALTER TABLE sealed_texts ADD COLUMN marks bytea NOT NULL DEFAULT '';
