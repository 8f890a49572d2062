-- +goose Up

-- Lists of recipients and what is sent to them. The id of the message of a row is that of
-- the batch's first one, whose last 24 bits are the row: so a message tells its batch, and
-- the messages of a batch stand beside each other.
CREATE TABLE batches (
    id           uuid        PRIMARY KEY,
    first        uuid        UNIQUE, -- from its launch on
    key_id       uuid        NOT NULL,
    by_whom      text        NOT NULL,
    name         text        NOT NULL,
    state        text        NOT NULL,
    why          text        NOT NULL DEFAULT '',
    wants        jsonb       NOT NULL,
    found        jsonb       NOT NULL DEFAULT '{}',
    launch       jsonb       NOT NULL DEFAULT '{}',
    totals       jsonb,
    rows         int         NOT NULL DEFAULT 0,
    checked      int         NOT NULL DEFAULT 0,
    content      bytea, -- tells lists and texts apart
    pace_n       int         NOT NULL DEFAULT 0,
    pace_ms      int         NOT NULL DEFAULT 0,
    created_at   timestamptz NOT NULL,
    changed_at   timestamptz NOT NULL,
    rehearsed_at timestamptz,
    launched_at  timestamptz,
    finished_at  timestamptz,
    keeper       uuid, -- the instance that is at work on it, and until when
    kept_until   timestamptz
);
CREATE INDEX batches_at_work ON batches (state)
    WHERE state IN ('checking', 'running', 'paused', 'held', 'cancelled') AND finished_at IS NULL;
CREATE INDEX batches_content ON batches (content) WHERE launched_at IS NOT NULL;

-- Rows, a thousand together, compressed; and what rehearsing found of each.
CREATE TABLE batch_packs (
    batch_id uuid  NOT NULL REFERENCES batches ON DELETE CASCADE,
    n        int   NOT NULL,
    rows     int   NOT NULL,
    body     bytea NOT NULL,
    checks   bytea,
    PRIMARY KEY (batch_id, n)
);
ALTER TABLE batch_packs ALTER COLUMN body SET STORAGE EXTERNAL, ALTER COLUMN checks SET STORAGE EXTERNAL;

-- How far the rows of a kind are let out: those that go through one gateway, scouts or not.
CREATE TABLE batch_feeds (
    batch_id uuid        NOT NULL REFERENCES batches ON DELETE CASCADE,
    n        int         NOT NULL,
    gateway  text        NOT NULL,
    scouts   boolean     NOT NULL,
    open     boolean     NOT NULL,
    opens_at timestamptz NOT NULL,
    next_row int         NOT NULL DEFAULT 0,
    waiting  int         NOT NULL,
    PRIMARY KEY (batch_id, n)
);

-- Rows that were accepted and are no messages yet, as tallies count them.
CREATE TABLE batch_waiting (
    batch_id    uuid        NOT NULL REFERENCES batches ON DELETE CASCADE,
    feed        int         NOT NULL,
    cut_id      int         NOT NULL,
    gateway_id  uuid        NOT NULL,
    accepted_at timestamptz NOT NULL,
    state       text        NOT NULL,
    n           int         NOT NULL,
    PRIMARY KEY (batch_id, feed, cut_id)
);

-- Messages of batches are counted by what tallies do not: the batch, and the cause.
CREATE TABLE batch_deltas (
    seq        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    first      uuid   NOT NULL,
    gateway_id uuid   NOT NULL,
    state      text   NOT NULL,
    cause      text   NOT NULL,
    currency   text   NOT NULL,
    n          int    NOT NULL,
    micros     bigint NOT NULL
);
CREATE TABLE batch_counts (
    first      uuid   NOT NULL,
    gateway_id uuid   NOT NULL,
    state      text   NOT NULL,
    cause      text   NOT NULL,
    currency   text   NOT NULL,
    n          bigint NOT NULL,
    micros     bigint NOT NULL,
    PRIMARY KEY (first, gateway_id, state, cause, currency)
);

-- When the last messages of a batch went that has a pace of its own.
CREATE TABLE batch_paces (
    batch  uuid          PRIMARY KEY, -- its first message
    recent timestamptz[] NOT NULL DEFAULT '{}'
);
