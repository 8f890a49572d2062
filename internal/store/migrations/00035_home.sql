-- +goose Up

-- Where this database lived when it was last found in order. row_xid is the transaction that wrote the row: one that was
-- loaded from a dump was written by another.
CREATE TABLE home (
    only_row     boolean     PRIMARY KEY DEFAULT true CHECK (only_row),
    system_id    text        NOT NULL,
    timeline     bigint      NOT NULL,
    database_oid bigint      NOT NULL,
    row_xid      bigint      NOT NULL,
    address      text        NOT NULL,
    noted_at     timestamptz NOT NULL
);

-- The times at which nothing was sent, because the database was not as it was left.
CREATE TABLE quarantines (
    id          uuid        PRIMARY KEY,
    since       timestamptz NOT NULL,
    reason      text        NOT NULL,
    why         text        NOT NULL,
    -- The last moment of which the database knows anything.
    reaches     timestamptz,
    -- Queued messages are doubtful since.
    prepared_at timestamptz,
    -- Gateways are asked about what is doubtful since.
    asked_at    timestamptz,
    lifted_at   timestamptz,
    lifted_by   text        NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX quarantines_one ON quarantines ((true)) WHERE lifted_at IS NULL;
