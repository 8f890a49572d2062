-- +goose Up

-- A gateway's own list or bill of what it carried.
CREATE TABLE statements (
    id           uuid PRIMARY KEY,
    gateway_id   uuid        NOT NULL,
    name         text        NOT NULL, -- of the file
    digest       bytea       NOT NULL, -- SHA-256 of the file
    state        text        NOT NULL CHECK (state IN ('reading', 'matching', 'applying', 'done', 'withdrawing', 'withdrawn')),
    found        text        NOT NULL, -- what the file was recognised as
    head         jsonb       NOT NULL, -- names of its columns
    mapping      jsonb       NOT NULL,
    lines        bigint      NOT NULL DEFAULT 0,
    from_at      timestamptz,          -- the span of time that it is about
    until_at     timestamptz,
    created_at   timestamptz NOT NULL,
    by_whom      text        NOT NULL,
    read_until   timestamptz,          -- while it is read: when whoever reads it has to have gone on
    done_n       bigint      NOT NULL DEFAULT 0, -- lines that were applied, or withdrawn
    finished_at  timestamptz,
    withdrawn_at timestamptz,
    withdrawn_by text        NOT NULL DEFAULT '',
    withdrawn_why text       NOT NULL DEFAULT '',
    totals       jsonb
);
-- The same file is there once.
CREATE UNIQUE INDEX statements_by_file ON statements (gateway_id, digest) WHERE state IN ('matching', 'applying', 'done');

-- Its lines, and the heap into which each falls.
CREATE TABLE statement_lines (
    statement_id    uuid    NOT NULL,
    n               integer NOT NULL,
    gateway_ref     text    NOT NULL,
    reference       text    NOT NULL,
    number          text    NOT NULL, -- E.164, as far as it can be read
    sender          text    NOT NULL,
    at              timestamptz,
    state           text    NOT NULL,
    cause           text    NOT NULL,
    code            text    NOT NULL,
    segments        integer NOT NULL,
    charge_micros   bigint,
    charge_currency text    NOT NULL,
    wrong           text    NOT NULL, -- why it cannot be read
    heap            text    NOT NULL CHECK (heap IN ('agrees', 'state', 'money', 'theirs')),
    how             text    NOT NULL CHECK (how IN ('id', 'reference', 'number', 'open', 'none', 'tied', 'unreadable')),
    message_id      uuid,
    attempt         integer NOT NULL,
    ours_state      text    NOT NULL,
    ours_segments   integer NOT NULL,
    ours_micros     bigint,
    ours_currency   text    NOT NULL,
    PRIMARY KEY (statement_id, n)
);
CREATE INDEX statement_lines_by_message ON statement_lines (message_id) WHERE message_id IS NOT NULL;
CREATE INDEX statement_lines_by_heap ON statement_lines (statement_id, heap, n) WHERE heap <> 'agrees';
CREATE INDEX statement_lines_open ON statement_lines (statement_id, number, n) WHERE how = 'open';

-- Submissions within its span of which it has no line.
CREATE TABLE statement_ours (
    statement_id uuid    NOT NULL,
    message_id   uuid    NOT NULL,
    attempt      integer NOT NULL,
    PRIMARY KEY (statement_id, message_id, attempt)
);
