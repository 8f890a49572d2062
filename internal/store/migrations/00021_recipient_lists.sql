-- +goose Up

-- Lists of recipients that are kept, to be written to again.
CREATE TABLE recipient_lists (
    id         uuid        PRIMARY KEY,
    name       text        NOT NULL UNIQUE,
    columns    jsonb       NOT NULL DEFAULT '[]', -- their names and roles, in their order
    rows       int         NOT NULL DEFAULT 0,
    staged     boolean     NOT NULL DEFAULT false, -- it is to take the place of another, and is not whole yet
    by_whom    text        NOT NULL,
    created_at timestamptz NOT NULL,
    changed_at timestamptz NOT NULL
);

-- A number stands once in a list.
CREATE TABLE recipients (
    list_id    uuid   NOT NULL REFERENCES recipient_lists ON DELETE CASCADE,
    number     text   NOT NULL, -- E.164
    n          bigint GENERATED ALWAYS AS IDENTITY, -- their order
    fields     jsonb  NOT NULL, -- what stands in its columns, by their names
    groups     text[] NOT NULL CONSTRAINT few_groups CHECK (cardinality(groups) <= 100),
    PRIMARY KEY (list_id, number)
);
CREATE INDEX recipients_order ON recipients (list_id, n);
