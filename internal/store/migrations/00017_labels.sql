-- +goose Up

-- Labels by which applications tell their messages from those of others: name=value, with
-- commas between. They are one more dimension by which messages are counted.
ALTER TABLE cuts ADD COLUMN labels text NOT NULL DEFAULT '';
ALTER TABLE cuts DROP CONSTRAINT cuts_key_id_sender_country_kind_template_key;
ALTER TABLE cuts ADD UNIQUE (key_id, sender, country, kind, template, labels);

-- Those of all that is sent with a key.
ALTER TABLE keys ADD COLUMN labels text NOT NULL DEFAULT '';
