-- +goose Up

CREATE TABLE keys (
    id           uuid PRIMARY KEY,
    name         text        NOT NULL,
    handle       text        NOT NULL UNIQUE, -- the public part, by which a key is looked up
    hash         bytea       NOT NULL,        -- SHA-256 of the secret part
    created_at   timestamptz NOT NULL,
    last_used_at timestamptz,
    revoked_at   timestamptz
);

CREATE TABLE senders (
    id         text PRIMARY KEY,
    kind       text        NOT NULL,
    is_default boolean     NOT NULL DEFAULT false,
    created_at timestamptz NOT NULL
);
CREATE UNIQUE INDEX senders_one_default ON senders (is_default) WHERE is_default;

CREATE TABLE gateways (
    id              uuid PRIMARY KEY,
    name            text        NOT NULL UNIQUE,
    dialect         text        NOT NULL,
    source          text        NOT NULL, -- the dialect file as it was given
    address         text        NOT NULL,
    sealed_secrets  bytea       NOT NULL,
    sealed_callback bytea       NOT NULL, -- the secret in the address of receipts
    per_second      integer     NOT NULL,
    in_flight       integer     NOT NULL,
    ask_after_ms    bigint      NOT NULL,
    give_up_ms      bigint      NOT NULL,
    timeout_ms      bigint      NOT NULL,
    created_at      timestamptz NOT NULL
);

-- Who paces a gateway, and until when.
CREATE TABLE keepers (
    gateway_id uuid PRIMARY KEY REFERENCES gateways ON DELETE CASCADE,
    holder     uuid        NOT NULL,
    until      timestamptz NOT NULL
);

-- Messages and what hangs on them are cut by month of the UUIDv7 (RFC 9562).
CREATE TABLE messages (
    id          uuid        NOT NULL PRIMARY KEY,
    key_id      uuid        NOT NULL,
    gateway_id  uuid        NOT NULL,
    to_number   text        NOT NULL,
    sender      text        NOT NULL,
    kind        text        NOT NULL,
    lane        smallint    NOT NULL,
    text        text        NOT NULL,
    encoding    text        NOT NULL,
    units       integer     NOT NULL,
    segments    integer     NOT NULL,
    reference   text        NOT NULL DEFAULT '',
    -- What Fold made of the evidence; written in the same transaction.
    state       text        NOT NULL,
    cause       text        NOT NULL DEFAULT '',
    rivals      text        NOT NULL DEFAULT '',
    attempts    integer     NOT NULL DEFAULT 0,
    gateway_ref text        NOT NULL DEFAULT '',
    -- What is to be done next, and when.
    due_at      timestamptz NOT NULL,
    valid_until timestamptz NOT NULL,
    ask_at      timestamptz,
    asks        integer     NOT NULL DEFAULT 0,
    give_up_at  timestamptz,
    created_at  timestamptz NOT NULL,
    changed_at  timestamptz NOT NULL,
    settled_at  timestamptz
) PARTITION BY RANGE (id);
CREATE INDEX messages_to_send ON messages (gateway_id, lane, due_at) WHERE state = 'queued';
CREATE INDEX messages_sending ON messages (gateway_id) WHERE state = 'sending';
CREATE INDEX messages_too_late ON messages (valid_until) WHERE state IN ('held', 'queued');
CREATE INDEX messages_to_ask ON messages (gateway_id, ask_at) WHERE ask_at IS NOT NULL;
CREATE INDEX messages_by_gateway_ref ON messages (gateway_ref, gateway_id) WHERE gateway_ref <> '';
CREATE INDEX messages_by_number ON messages (to_number, id);
CREATE INDEX messages_by_state ON messages (state, id);
CREATE INDEX messages_by_reference ON messages (reference, id) WHERE reference <> '';

CREATE TABLE evidence (
    id          uuid        NOT NULL,
    message_id  uuid        NOT NULL,
    at          timestamptz NOT NULL,
    source      text        NOT NULL,
    claim       text        NOT NULL DEFAULT '',
    cause       text        NOT NULL DEFAULT '',
    attempt     integer     NOT NULL DEFAULT 0,
    part        integer     NOT NULL DEFAULT 0,
    parts       integer     NOT NULL DEFAULT 0,
    gateway_id  uuid,
    gateway_ref text        NOT NULL DEFAULT '',
    code        text        NOT NULL DEFAULT '',
    note        text        NOT NULL DEFAULT '',
    gateway_at  timestamptz,
    exchange_id uuid,
    receipt_id  uuid,
    PRIMARY KEY (message_id, id)
) PARTITION BY RANGE (message_id);

-- Raw exchanges: what was sent and answered, secrets masked.
CREATE TABLE exchanges (
    id             uuid        NOT NULL PRIMARY KEY,
    gateway_id     uuid        NOT NULL,
    purpose        text        NOT NULL,
    method         text        NOT NULL,
    url            text        NOT NULL,
    request_header jsonb       NOT NULL,
    request_body   bytea       NOT NULL,
    status         integer     NOT NULL,
    reply_header   jsonb       NOT NULL,
    reply_body     bytea       NOT NULL,
    error          text        NOT NULL DEFAULT '',
    started_at     timestamptz NOT NULL,
    took_us        bigint      NOT NULL
) PARTITION BY RANGE (id);

-- Callbacks as they came in, stored before they are answered.
CREATE TABLE receipts (
    id          uuid        NOT NULL PRIMARY KEY,
    gateway_id  uuid        NOT NULL,
    received_at timestamptz NOT NULL,
    method      text        NOT NULL,
    query       text        NOT NULL,
    header      jsonb       NOT NULL,
    body        bytea       NOT NULL,
    genuine     boolean     NOT NULL,
    problem     text        NOT NULL DEFAULT '',
    settled_at  timestamptz
) PARTITION BY RANGE (id);
CREATE INDEX receipts_to_settle ON receipts (id) WHERE settled_at IS NULL;

-- Claims that match no message yet.
CREATE TABLE strays (
    id          uuid PRIMARY KEY,
    gateway_id  uuid        NOT NULL,
    gateway_ref text        NOT NULL,
    reference   text        NOT NULL,
    at          timestamptz NOT NULL,
    claim       text        NOT NULL,
    cause       text        NOT NULL,
    part        integer     NOT NULL,
    parts       integer     NOT NULL,
    code        text        NOT NULL,
    note        text        NOT NULL,
    gateway_at  timestamptz,
    receipt_id  uuid        NOT NULL,
    look_at     timestamptz, -- when to look for its message again; NULL: no more
    looks       integer     NOT NULL DEFAULT 0
);
CREATE INDEX strays_to_look ON strays (look_at) WHERE look_at IS NOT NULL;
CREATE INDEX strays_by_ref ON strays (gateway_ref, gateway_id);

-- First answers to requests that carried an Idempotency-Key.
CREATE TABLE idempotency (
    key_id      uuid        NOT NULL,
    token       text        NOT NULL,
    fingerprint bytea       NOT NULL, -- SHA-256 of the request
    message_id  uuid        NOT NULL,
    created_at  timestamptz NOT NULL,
    PRIMARY KEY (key_id, token)
);
CREATE INDEX idempotency_by_age ON idempotency (created_at);

-- +goose Down
SELECT 'migrations only go forward' WHERE false;
