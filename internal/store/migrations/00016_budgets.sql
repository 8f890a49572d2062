-- +goose Up

-- What batches have spent of budgets, by estimate: reserved in the transaction that makes
-- messages of rows.
CREATE TABLE batch_spends (
    scope    text   NOT NULL, -- batch, key or all
    id       uuid   NOT NULL, -- of the batch or the key
    day      date   NOT NULL, -- the first of all days, where it is no budget of a day
    currency text   NOT NULL,
    micros   bigint NOT NULL,
    PRIMARY KEY (scope, id, day, currency)
);

-- What batches that are launched with a key may spend a day; NULL: any amount.
ALTER TABLE keys ADD COLUMN budget_day jsonb;
