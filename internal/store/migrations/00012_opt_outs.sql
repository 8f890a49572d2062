-- +goose Up

-- Who does not want to be written to. What has ended stays: who asked for what, when,
-- is asked about years later.
CREATE TABLE opt_outs (
    id        bigint      GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    number    text        NOT NULL,
    since     timestamptz NOT NULL,
    why       text        NOT NULL,
    by_whom   text        NOT NULL,
    ended_at  timestamptz,
    ended_why text        NOT NULL DEFAULT '',
    ended_by  text        NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX opt_outs_now ON opt_outs (number) WHERE ended_at IS NULL;
CREATE INDEX opt_outs_number ON opt_outs (number, id);
