-- +goose Up

-- One-time passwords. Of a code there is a keyed hash; what it takes to send it again is sealed, and goes when it is
-- used, over, or sent for the last time.
CREATE TABLE passcodes (
    id         uuid        NOT NULL, -- that of its first message
    key_id     uuid        NOT NULL,
    number     text        NOT NULL,
    country    text        NOT NULL,
    purpose    text        NOT NULL,
    letters    boolean     NOT NULL,
    length     smallint    NOT NULL,
    hash       bytea       NOT NULL,
    sealed     bytea       NOT NULL,
    created_at timestamptz NOT NULL,
    ends_at    timestamptz NOT NULL,
    tries      smallint    NOT NULL DEFAULT 0, -- wrong ones
    tries_most smallint    NOT NULL,
    used_at    timestamptz,
    checked_at timestamptz, -- the last time
    ended_at   timestamptz, -- by hand
    sends      smallint    NOT NULL DEFAULT 1,
    sends_most smallint    NOT NULL,
    again_at   timestamptz NOT NULL, -- not before may it be sent again
    message_id uuid        NOT NULL, -- the last that bears it
    gateway_id uuid        NOT NULL, -- through which that went first
    address    inet,                 -- of the end user
    reference  text        NOT NULL,
    template   text        NOT NULL,
    language   text        NOT NULL,
    PRIMARY KEY (id)
) PARTITION BY RANGE (id);
CREATE INDEX passcodes_sealed ON passcodes (ends_at) WHERE sealed <> '';
CREATE INDEX passcodes_by_number ON passcodes (number, id DESC);

-- The newest code of a number for a purpose: the others are over.
CREATE TABLE passcode_current (
    number  text NOT NULL,
    purpose text NOT NULL,
    id      uuid NOT NULL,
    PRIMARY KEY (number, purpose)
);

-- How many were sent of late, for one of something.
CREATE TABLE passcode_counts (
    by_what text        NOT NULL,
    value   text        NOT NULL,
    counter bytea       NOT NULL,
    at      timestamptz NOT NULL,
    PRIMARY KEY (by_what, value)
) WITH (fillfactor = 70);

-- Limits that are set, in the place of those that are usual; most is NULL where none holds.
CREATE TABLE passcode_limits (
    by_what    text    NOT NULL,
    per_window text    NOT NULL CHECK (per_window IN ('minute', 'hour', 'day')),
    most       integer,
    PRIMARY KEY (by_what, per_window)
);
CREATE TRIGGER noted AFTER INSERT OR UPDATE OR DELETE ON passcode_limits FOR EACH ROW
    EXECUTE FUNCTION note_change('passcode_limit', 'by_what');
CREATE TRIGGER changed AFTER INSERT OR UPDATE OR DELETE ON passcode_limits FOR EACH STATEMENT EXECUTE FUNCTION settings_changed();

-- What gets no passcodes, for a time or for good.
CREATE TABLE passcode_blocks (
    id         uuid        PRIMARY KEY,
    by_what    text        NOT NULL CHECK (by_what IN ('number', 'range', 'country', 'address', 'network')),
    value      text        NOT NULL,
    since      timestamptz NOT NULL,
    until_at   timestamptz, -- NULL: for good
    by_whom    text        NOT NULL,
    why        text        NOT NULL,
    lifted_at  timestamptz,
    lifted_by  text        NOT NULL DEFAULT '',
    lifted_why text        NOT NULL DEFAULT ''
);
CREATE INDEX passcode_blocks_standing ON passcode_blocks (since) WHERE lifted_at IS NULL;
CREATE TRIGGER changed AFTER INSERT OR UPDATE OR DELETE ON passcode_blocks FOR EACH STATEMENT EXECUTE FUNCTION settings_changed();

-- How many passcodes were sent, sent again, checked and right, by the hour in which they were issued, and how long it took
-- until they were right: by how much it changes, and added up by hour and by day.
CREATE TABLE passcode_deltas (
    seq        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    hour       timestamptz NOT NULL,
    gateway_id uuid        NOT NULL,
    country    text        NOT NULL,
    purpose    text        NOT NULL,
    template   text        NOT NULL,
    step       text        NOT NULL,
    bucket     smallint    NOT NULL,
    n          integer     NOT NULL
);

CREATE TABLE passcode_steps (
    grain      text        NOT NULL CHECK (grain IN ('hour', 'day')),
    began_at   timestamptz NOT NULL,
    gateway_id uuid        NOT NULL,
    country    text        NOT NULL,
    purpose    text        NOT NULL,
    template   text        NOT NULL,
    step       text        NOT NULL CHECK (step IN ('issued', 'again', 'checked', 'right')),
    bucket     smallint    NOT NULL,
    n          bigint      NOT NULL,
    PRIMARY KEY (grain, began_at, gateway_id, country, purpose, template, step, bucket)
);

-- A practice key may see codes.
ALTER TABLE keys ADD COLUMN practice boolean NOT NULL DEFAULT false;
-- To which countries it may send passcodes; none: to all.
ALTER TABLE keys ADD COLUMN passcode_countries jsonb NOT NULL DEFAULT '[]';
