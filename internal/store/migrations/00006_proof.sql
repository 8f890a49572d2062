-- +goose Up

-- How a gateway was spoken to when it last answered a query about a message that
-- it knew: only in those words does it prove anything that it knows none.
ALTER TABLE gateway_health ADD COLUMN asked_in text NOT NULL DEFAULT '';
