-- +goose Up

-- What a claim rests on that can be withdrawn: that a stray belongs to a message, a statement, a
-- decision. A weak claim stands in a column of its own, so that an older version does not take it for
-- what somebody said who named the message.
ALTER TABLE evidence
    ADD COLUMN ground     bigint,
    ADD COLUMN withdraws  bigint,                     -- a ground whose claims count no more
    ADD COLUMN over       smallint NOT NULL DEFAULT 0, -- endings that a decision overrules
    ADD COLUMN weak_claim text     NOT NULL DEFAULT '';

-- Submissions that the gateway gave no name: those in doubt, and those refused at once.
CREATE INDEX submissions_nameless ON submissions (gateway_id, began_at) WHERE gateway_ref = '';

ALTER TABLE strays
    ADD COLUMN number     text        NOT NULL DEFAULT '', -- E.164, as far as it can be read
    ADD COLUMN says       text        NOT NULL DEFAULT '', -- the text, if the gateway named it
    ADD COLUMN judge_at   timestamptz,                     -- when to see whether it can only belong to one message; NULL: no more
    ADD COLUMN judged     integer     NOT NULL DEFAULT 0,  -- how often that was seen
    ADD COLUMN ask_at     timestamptz,                     -- when to ask the gateway about its id; NULL: not, or no more
    ADD COLUMN asks       integer     NOT NULL DEFAULT 0,
    ADD COLUMN answer     text        NOT NULL DEFAULT '', -- what the gateway, asked, knew of it
    ADD COLUMN reason     text        NOT NULL DEFAULT '', -- why, most likely, it has no message
    ADD COLUMN rivals     integer     NOT NULL DEFAULT 0,  -- submissions that it may belong to
    ADD COLUMN fate       text        NOT NULL DEFAULT '' CHECK (fate IN ('', 'weak', 'attached', 'discarded')),
    ADD COLUMN fated_at   timestamptz,
    ADD COLUMN by_whom    text        NOT NULL DEFAULT '',
    ADD COLUMN why        text        NOT NULL DEFAULT '',
    ADD COLUMN ground     bigint,                          -- what its claims rest on, where it has a message
    ADD COLUMN message_id uuid,
    ADD COLUMN attempt    integer     NOT NULL DEFAULT 0,
    ADD COLUMN not_of     text        NOT NULL DEFAULT ''; -- ids of messages that it does not belong to, by decision
UPDATE strays SET judge_at = now() WHERE look_at IS NOT NULL;
CREATE INDEX strays_to_judge ON strays (gateway_id, judge_at) WHERE judge_at IS NOT NULL;
CREATE INDEX strays_to_ask ON strays (gateway_id, ask_at) WHERE ask_at IS NOT NULL;
CREATE INDEX strays_by_number ON strays (gateway_id, number) WHERE fate <> 'discarded';
CREATE INDEX strays_by_ground ON strays (ground) WHERE ground IS NOT NULL;

-- How gateways' clocks go, by the receipts of an hour.
CREATE TABLE gateway_clocks (
    gateway_id uuid        NOT NULL,
    hour       timestamptz NOT NULL,
    n          bigint      NOT NULL, -- receipts that said when
    least      bigint[]    NOT NULL, -- the shortest times after which they came, in milliseconds, at most 32
    early      bigint      NOT NULL, -- gave a time before the message went
    late       bigint      NOT NULL, -- came more than a day after the message went
    heard_at   timestamptz,          -- when the last receipt came, whether it said when or not
    PRIMARY KEY (gateway_id, hour)
);

-- The silence before the first status query, where it differs by kind, in milliseconds.
ALTER TABLE gateways ADD COLUMN ask_kinds jsonb NOT NULL DEFAULT '{}';

-- How a gateway was spoken to when a receipt last bore an id that it had given in a reply.
ALTER TABLE gateway_health ADD COLUMN named_in text NOT NULL DEFAULT '';

-- The lock waits for marks that another instance is writing, so that they are copied too.
LOCK TABLE marks IN SHARE ROW EXCLUSIVE MODE;

-- Messages that want a person's decision: those whose end nobody knows. Contested ones are marked already.
INSERT INTO marks (mark, id) SELECT 'undecided', id FROM marks WHERE mark IN ('unknown', 'contested') ON CONFLICT DO NOTHING;
