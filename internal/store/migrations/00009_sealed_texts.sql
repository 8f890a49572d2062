-- +goose Up

-- The texts of passcodes, sealed, as long as they may have to be handed over.
-- Everywhere else their letters and digits are masked.
CREATE TABLE sealed_texts (
    id     uuid  PRIMARY KEY,
    sealed bytea NOT NULL
) WITH (autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 2000, autovacuum_vacuum_cost_delay = 0);

-- Those of before are masked where they have been handed over.
UPDATE messages m SET text = regexp_replace(text, '[[:alnum:]]', '*', 'g'), given = regexp_replace(given, '[[:alnum:]]', '*', 'g'), fields = NULL
WHERE kind = 'otp' AND NOT EXISTS (SELECT FROM to_send q WHERE q.id = m.id)
    AND NOT EXISTS (SELECT FROM standings s WHERE s.id = m.id AND s.state IN ('sending', 'doubtful'));
