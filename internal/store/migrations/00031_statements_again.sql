-- +goose Up

-- When lines that name a message that nobody knew are looked for again, how often they were, and behind which line it
-- goes on.
ALTER TABLE statements
    ADD COLUMN again_at   timestamptz,
    ADD COLUMN again_n    integer NOT NULL DEFAULT 0,
    ADD COLUMN again_from integer NOT NULL DEFAULT 0;
CREATE INDEX statements_again ON statements (again_at) WHERE again_at IS NOT NULL;
