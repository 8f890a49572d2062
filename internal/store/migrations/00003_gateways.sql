-- +goose Up

ALTER TABLE gateways
    ADD COLUMN per_minute         integer NOT NULL DEFAULT 0, -- 0: not limited
    ADD COLUMN per_day            integer NOT NULL DEFAULT 0,
    ADD COLUMN currency           text    NOT NULL DEFAULT '', -- of its charges and balance, if it does not say
    ADD COLUMN senders            jsonb   NOT NULL DEFAULT '[]', -- those leased from it
    ADD COLUMN low_balance_micros bigint,
    ADD COLUMN paused_at          timestamptz,
    ADD COLUMN paused_by          text    NOT NULL DEFAULT '',
    ADD COLUMN paused_why         text    NOT NULL DEFAULT '',
    ADD COLUMN removed_at         timestamptz,
    ADD COLUMN version            integer NOT NULL DEFAULT 1; -- grows with every change
-- The name of a gateway that was removed may be used again.
ALTER TABLE gateways DROP CONSTRAINT gateways_name_key;
CREATE UNIQUE INDEX gateways_by_name ON gateways (name) WHERE removed_at IS NULL;

-- How a gateway fares, as its keeper sees it.
CREATE TABLE gateway_health (
    gateway_id       uuid PRIMARY KEY REFERENCES gateways ON DELETE CASCADE,
    rest_until       timestamptz,
    rest_since       timestamptz,
    rest_cause       text   NOT NULL DEFAULT '',
    rest_note        text   NOT NULL DEFAULT '',
    balance_micros   bigint,
    balance_currency text   NOT NULL DEFAULT '',
    balance_at       timestamptz,
    balance_note     text   NOT NULL DEFAULT '', -- why it could not be read the last time
    asked_at         timestamptz                 -- when it was last asked for its balance
);

-- What went through a gateway that has a limit by the minute or by the day.
CREATE TABLE gateway_paces (
    gateway_id uuid        NOT NULL REFERENCES gateways ON DELETE CASCADE,
    slot       timestamptz NOT NULL,
    n          integer     NOT NULL,
    PRIMARY KEY (gateway_id, slot)
);

-- Which gateways a message can take. The first route that fits is its own.
CREATE TABLE routes (
    name       text PRIMARY KEY,
    position   integer     NOT NULL UNIQUE DEFERRABLE INITIALLY DEFERRED,
    route      jsonb       NOT NULL,
    changed_at timestamptz NOT NULL,
    changed_by text        NOT NULL
);

ALTER TABLE messages
    ADD COLUMN fields jsonb   NOT NULL DEFAULT '{}', -- of its template
    ADD COLUMN flash  boolean NOT NULL DEFAULT false,
    ADD COLUMN route  text    NOT NULL DEFAULT '';

ALTER TABLE evidence
    ADD COLUMN segments        integer NOT NULL DEFAULT 0, -- as the gateway counts them
    ADD COLUMN charge_micros   bigint,
    ADD COLUMN charge_currency text    NOT NULL DEFAULT '';

ALTER TABLE strays
    ADD COLUMN to_number       text    NOT NULL DEFAULT '',
    ADD COLUMN segments        integer NOT NULL DEFAULT 0,
    ADD COLUMN charge_micros   bigint,
    ADD COLUMN charge_currency text    NOT NULL DEFAULT '';

-- What people wrote to our senders.
CREATE TABLE inbound (
    id          uuid        PRIMARY KEY,
    gateway_id  uuid        NOT NULL,
    receipt_id  uuid        NOT NULL, -- the callback that brought it
    gateway_ref text        NOT NULL,
    from_number text        NOT NULL, -- as the gateway writes it
    to_number   text        NOT NULL,
    text        text        NOT NULL,
    at          timestamptz,
    received_at timestamptz NOT NULL
);
CREATE UNIQUE INDEX inbound_once ON inbound (gateway_id, gateway_ref) WHERE gateway_ref <> '';

-- +goose Down
SELECT 'migrations only go forward' WHERE false;
