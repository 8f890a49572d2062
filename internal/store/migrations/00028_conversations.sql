-- +goose Up

-- Who wrote and to whom, so that it can be held against messages; and the message that it answers.
ALTER TABLE inbound
    ADD COLUMN from_e164  text NOT NULL DEFAULT '', -- empty: it cannot be read
    ADD COLUMN to_sender  text NOT NULL DEFAULT '', -- as our senders are written
    ADD COLUMN message_id uuid,
    ADD COLUMN done_at    timestamptz,              -- somebody said that it wants no answer
    ADD COLUMN done_by    text NOT NULL DEFAULT '';
UPDATE inbound SET from_e164 = '+' || ltrim(from_number, '+') WHERE from_number ~ '^\+?[1-9][0-9]{6,14}$';
UPDATE inbound SET to_sender = CASE WHEN to_number ~ '^[1-9][0-9]{6,14}$' THEN '+' || to_number ELSE to_number END;
CREATE INDEX inbound_by_number ON inbound (from_e164, id);

-- The receiver that alone is told of what people write to a sender; empty: all that want to know.
ALTER TABLE senders ADD COLUMN replies_to text NOT NULL DEFAULT '';
