-- +goose Up

-- Who did what with a batch, when.
CREATE TABLE batch_acts (
    id       bigint      GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    batch_id uuid        NOT NULL REFERENCES batches ON DELETE CASCADE,
    at       timestamptz NOT NULL,
    by_whom  text        NOT NULL, -- the name of a key; empty: the batch itself
    act      text        NOT NULL
);
CREATE INDEX batch_acts_batch ON batch_acts (batch_id, id);
