-- +goose Up

-- A workbook as it came, in pieces, so that it can be given back with its formats.
CREATE TABLE batch_files (
    batch_id uuid  NOT NULL REFERENCES batches ON DELETE CASCADE,
    n        int   NOT NULL,
    body     bytea NOT NULL,
    PRIMARY KEY (batch_id, n)
);
ALTER TABLE batch_files ALTER COLUMN body SET STORAGE EXTERNAL;
