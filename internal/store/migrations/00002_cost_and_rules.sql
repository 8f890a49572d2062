-- +goose Up

-- What is known of a sender. Empty lists stand for all.
ALTER TABLE senders
    ADD COLUMN gateways      jsonb   NOT NULL DEFAULT '[]', -- names
    ADD COLUMN countries     jsonb   NOT NULL DEFAULT '[]',
    ADD COLUMN registrations jsonb   NOT NULL DEFAULT '{}', -- country to id
    ADD COLUMN two_way       boolean NOT NULL DEFAULT false,
    ADD COLUMN per_second    integer NOT NULL DEFAULT 0;

-- What a sender is the default for; empty stands for all.
CREATE TABLE sender_defaults (
    kind      text NOT NULL,
    country   text NOT NULL,
    sender_id text NOT NULL REFERENCES senders ON DELETE CASCADE,
    PRIMARY KEY (kind, country)
);
INSERT INTO sender_defaults SELECT '', '', id FROM senders WHERE is_default;
ALTER TABLE senders DROP COLUMN is_default;

-- When the last messages of a sender with a pace of its own went.
CREATE TABLE sender_paces (
    sender_id text PRIMARY KEY REFERENCES senders ON DELETE CASCADE,
    recent    timestamptz[] NOT NULL DEFAULT '{}'
);

-- Rules that differ from those that ship.
CREATE TABLE country_rules (
    country    text PRIMARY KEY,
    rule       jsonb       NOT NULL,
    changed_at timestamptz NOT NULL,
    changed_by text        NOT NULL
);

CREATE TABLE templates (
    name       text PRIMARY KEY,
    template   jsonb       NOT NULL,
    created_at timestamptz NOT NULL,
    changed_at timestamptz NOT NULL
);

CREATE TABLE prices (
    gateway_id uuid        NOT NULL REFERENCES gateways ON DELETE CASCADE,
    country    text        NOT NULL,
    prefix     text        NOT NULL,
    kind       text        NOT NULL,
    per        text        NOT NULL,
    micros     bigint      NOT NULL, -- millionths of the currency's unit
    currency   text        NOT NULL,
    holds_from timestamptz NOT NULL,
    PRIMARY KEY (gateway_id, country, prefix, kind, holds_from)
);
CREATE TABLE price_lists (
    gateway_id uuid PRIMARY KEY REFERENCES gateways ON DELETE CASCADE,
    changed_at timestamptz NOT NULL,
    changed_by text        NOT NULL
);

ALTER TABLE keys ADD COLUMN cure text NOT NULL DEFAULT 'off';

ALTER TABLE messages
    ADD COLUMN country      text NOT NULL DEFAULT '',
    ADD COLUMN template     text NOT NULL DEFAULT '',
    ADD COLUMN registration text NOT NULL DEFAULT '', -- of the text, in the country
    ADD COLUMN given        text NOT NULL DEFAULT '', -- the text before characters were replaced
    ADD COLUMN price_micros bigint,                   -- NULL: not known
    ADD COLUMN currency     text NOT NULL DEFAULT '';

-- +goose Down
SELECT 'migrations only go forward' WHERE false;
