-- +goose Up

-- How a batch stood at moments, to be drawn: the further it is, the further they are apart.
CREATE TABLE batch_samples (
    batch_id uuid        NOT NULL REFERENCES batches ON DELETE CASCADE,
    at       timestamptz NOT NULL,
    counts   jsonb       NOT NULL, -- rows by state
    PRIMARY KEY (batch_id, at)
);
