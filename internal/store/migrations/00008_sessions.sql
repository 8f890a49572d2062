-- +goose Up

-- Who is signed in to the console. Of the token only a hash is kept; it is random
-- enough that a plain one cannot be searched.
CREATE TABLE sessions (
    hash     bytea PRIMARY KEY,
    key_id   uuid        NOT NULL REFERENCES keys ON DELETE CASCADE,
    began_at timestamptz NOT NULL,
    used_at  timestamptz NOT NULL,
    ended_at timestamptz
);
-- Instances remember keys and sessions for some seconds; that one ended they learn
-- within half a second.
CREATE TRIGGER ended AFTER UPDATE OF revoked_at ON keys FOR EACH STATEMENT EXECUTE FUNCTION settings_changed();
CREATE TRIGGER ended AFTER UPDATE OF ended_at ON sessions FOR EACH STATEMENT EXECUTE FUNCTION settings_changed();

-- Something sealed with the key of all instances, so that one with another key
-- notices.
CREATE TABLE seal_probe (
    one    boolean PRIMARY KEY DEFAULT true CHECK (one),
    sealed bytea NOT NULL
);
