-- +goose Up

-- How often a gateway's statement is fetched; 0: never by itself.
ALTER TABLE gateways ADD COLUMN statement_every_ms bigint NOT NULL DEFAULT 0;

-- How far gateways' statements were fetched, and when it is tried again.
CREATE TABLE statement_fetches (
    gateway_id   uuid PRIMARY KEY,
    through      timestamptz NOT NULL, -- the end of the last span that was fetched
    not_before   timestamptz NOT NULL, -- is the next one fetched, after failures
    leased_until timestamptz,          -- somebody fetches it
    tries        integer     NOT NULL DEFAULT 0, -- in vain, one after the other
    failed_at    timestamptz,          -- the first of them
    failure      text        NOT NULL DEFAULT ''
);
