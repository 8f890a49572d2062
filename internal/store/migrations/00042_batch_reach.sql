-- +goose Up

-- What a batch sends to whom: fingerprints of number and final text, with their rows, in 256 parts. They are needed for a day
-- after the launch, to find who would get the same text twice.
CREATE TABLE batch_reach (
    batch_id uuid     NOT NULL REFERENCES batches ON DELETE CASCADE,
    part     smallint NOT NULL,
    body     bytea    NOT NULL,
    PRIMARY KEY (batch_id, part)
);
ALTER TABLE batch_reach ALTER COLUMN body SET STORAGE EXTERNAL; -- it is as short as it can be
CREATE INDEX batches_launched ON batches (launched_at) WHERE launched_at IS NOT NULL;
