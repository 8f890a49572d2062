-- +goose Up

-- Who is told of what happens: addresses of applications, and those who follow for a while.
CREATE TABLE receivers (
    id             uuid        PRIMARY KEY,
    name           text        NOT NULL,
    address        text        NOT NULL, -- empty: somebody follows, and fetches
    sealed_secrets bytea       NOT NULL, -- with which it is signed, and until when
    types          text[]      NOT NULL, -- of events; empty: all; batch.* stands for all that begin so
    kinds          text[]      NOT NULL, -- of messages; empty: all, and what is about none
    labels         text        NOT NULL, -- that messages must have
    reports        text        NOT NULL CHECK (reports IN ('no', 'also', 'only')), -- messages may name addresses below its own
    keys           uuid[]      NOT NULL, -- whose messages may; empty: all
    at_once        integer     NOT NULL, -- requests in flight
    timeout_ms     integer     NOT NULL,
    paused_at      timestamptz,
    paused_by      text        NOT NULL DEFAULT '',
    paused_why     text        NOT NULL DEFAULT '',
    created_at     timestamptz NOT NULL,
    removed_at     timestamptz,
    version        integer     NOT NULL DEFAULT 1
);
CREATE UNIQUE INDEX receivers_name ON receivers (name) WHERE removed_at IS NULL;
CREATE TRIGGER noted AFTER INSERT OR UPDATE OR DELETE ON receivers FOR EACH ROW
    EXECUTE FUNCTION note_change('receiver', 'name', 'id', 'version', 'created_at');
CREATE TRIGGER changed AFTER INSERT OR UPDATE OR DELETE ON receivers FOR EACH STATEMENT EXECUTE FUNCTION settings_changed();

-- How receivers fare.
CREATE TABLE receiver_health (
    receiver_id    uuid        PRIMARY KEY,
    told_at        timestamptz,                      -- the last event that it took
    failed_at      timestamptz,                      -- when it last did not
    failure        text        NOT NULL DEFAULT '',  -- why
    failures       integer     NOT NULL DEFAULT 0,   -- in a row
    rest_until     timestamptz,
    followed_until timestamptz                       -- of who follows: nobody fetches any more after that
);

-- What happened, as long as it is kept. Written by the transaction in which it happens, if anybody
-- is to be told. seq is the order in which those about one subject happened.
CREATE SEQUENCE event_seq;
CREATE TABLE events (
    id          uuid   NOT NULL PRIMARY KEY,
    seq         bigint NOT NULL,
    type        text   NOT NULL,
    subject     uuid   NOT NULL, -- a message, a batch, an inbound message, what wants somebody
    cut_id      integer,
    kind        text   NOT NULL, -- of the message; empty if it is about none
    labels      text   NOT NULL,
    report_via  uuid,            -- the receiver that is told at another address
    report_to   text,            -- which
    data        json   NOT NULL
) PARTITION BY RANGE (id);
CREATE INDEX events_subject ON events (subject);

-- Who is still to be told of what: those that are told, or were given up, go.
CREATE TABLE to_tell (
    receiver_id uuid        NOT NULL,
    seq         bigint      NOT NULL,
    event_id    uuid        NOT NULL,
    subject     uuid        NOT NULL,
    due_at      timestamptz NOT NULL,
    since       timestamptz NOT NULL,             -- it is tried for a day
    tries       integer     NOT NULL DEFAULT 0,
    tried_at    timestamptz,
    status      integer     NOT NULL DEFAULT 0,   -- of the last answer; 0: there was none
    error       text        NOT NULL DEFAULT '',
    answer      text        NOT NULL DEFAULT '',  -- how it began
    PRIMARY KEY (receiver_id, seq)
) WITH (fillfactor = 70, autovacuum_vacuum_scale_factor = 0.05);
CREATE INDEX to_tell_due ON to_tell (receiver_id, due_at, seq);
CREATE INDEX to_tell_subject ON to_tell (subject, receiver_id, seq);

-- Who was told of what, or was not in the end.
CREATE TABLE tellings (
    event_id    uuid        NOT NULL,
    receiver_id uuid        NOT NULL,
    outcome     text        NOT NULL CHECK (outcome IN ('told', 'parked')),
    at          timestamptz NOT NULL,
    tries       integer     NOT NULL,
    status      integer     NOT NULL,
    took_us     integer     NOT NULL,
    error       text        NOT NULL,
    answer      text        NOT NULL,
    PRIMARY KEY (event_id, receiver_id)
) PARTITION BY RANGE (event_id);
CREATE INDEX tellings_parked ON tellings (receiver_id, event_id) WHERE outcome = 'parked';

-- The address at which one message's events are told, and the receiver to whom it belongs.
ALTER TABLE messages ADD COLUMN report_via uuid, ADD COLUMN report_to text;

-- What wanted somebody, as was last told.
CREATE TABLE attention_told (
    key   text        PRIMARY KEY,
    id    uuid        NOT NULL, -- the subject of its events
    since timestamptz NOT NULL,
    what  json        NOT NULL
);

-- Leases are no longer of gateways alone.
ALTER TABLE keepers DROP CONSTRAINT keepers_gateway_id_fkey;
