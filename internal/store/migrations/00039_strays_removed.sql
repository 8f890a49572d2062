-- +goose Up

-- The strays of a gateway that wait, the oldest first: whoever knows the address of its receipts can make any number.
CREATE INDEX strays_waiting ON strays (gateway_id, id) WHERE fate = '';

-- How many strays were removed because too many waited.
CREATE TABLE strays_removed (
    gateway_id uuid        PRIMARY KEY REFERENCES gateways ON DELETE CASCADE,
    n          bigint      NOT NULL,
    since      timestamptz NOT NULL,
    last_at    timestamptz NOT NULL
);
