-- +goose Up

-- Messages that wait for a time. They are not among those to be sent, where keepers look.
CREATE TABLE held (
    id          uuid        PRIMARY KEY,
    gateway_id  uuid        NOT NULL, -- it is to go through
    release_at  timestamptz NOT NULL
);
CREATE INDEX held_release_at ON held (release_at);

-- Until when a message was held when it was accepted; NULL: it was not.
ALTER TABLE messages ADD COLUMN held_until timestamptz;
