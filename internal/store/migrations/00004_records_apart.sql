-- +goose Up

-- The lock waits for rows that another instance is writing, so that they are copied too.
LOCK TABLE messages, evidence, receipts IN ACCESS EXCLUSIVE MODE;

-- What never changes of a message stands apart from what does. Its content is
-- written once; what is known of it is a narrow row, updated in place; that it
-- waits to be sent, or to be asked about, is membership in a small table.

-- The dimensions by which messages are counted, each combination once.
CREATE TABLE cuts (
    id       integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    key_id   uuid NOT NULL,
    sender   text NOT NULL,
    country  text NOT NULL,
    kind     text NOT NULL,
    template text NOT NULL,
    UNIQUE (key_id, sender, country, kind, template)
);
INSERT INTO cuts (key_id, sender, country, kind, template)
SELECT DISTINCT key_id, sender, country, kind, template FROM messages;

-- Where a message stands: what Fold makes of its evidence. Nothing that changes
-- is in an index, so that an update stays on its page.
CREATE TABLE standings (
    id           uuid        NOT NULL PRIMARY KEY,
    gateway_id   uuid        NOT NULL,
    valid_until  timestamptz NOT NULL,
    changed_at   timestamptz NOT NULL,
    settled_at   timestamptz,
    price_micros bigint,              -- NULL: not known
    cut_id       integer     NOT NULL,
    repeats      integer     NOT NULL DEFAULT 0, -- facts that said again what was known
    attempts     smallint    NOT NULL DEFAULT 0,
    lane         smallint    NOT NULL,
    state        text        NOT NULL,
    cause        text        NOT NULL DEFAULT '',
    rivals       text        NOT NULL DEFAULT '',
    currency     text        NOT NULL DEFAULT '',
    digest       bytea                -- of the evidence; NULL: to be worked out from it
) PARTITION BY RANGE (id);

-- Submissions that were begun and of which an answer, or none, is known. Found
-- by gateway and the gateway's id, whichever attempt it was.
CREATE TABLE submissions (
    message_id  uuid        NOT NULL,
    attempt     smallint    NOT NULL,
    gateway_id  uuid        NOT NULL,
    began_at    timestamptz NOT NULL,
    gateway_ref text        NOT NULL DEFAULT '',
    PRIMARY KEY (message_id, attempt)
) PARTITION BY RANGE (message_id);
CREATE INDEX submissions_by_ref ON submissions (gateway_ref, gateway_id) WHERE gateway_ref <> '';

-- +goose StatementBegin
DO $$
DECLARE part record;
BEGIN
    FOR part IN
        SELECT substr(c.relname, length('messages_') + 1) AS month, pg_get_expr(c.relpartbound, c.oid) AS bounds
        FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid WHERE i.inhparent = 'messages'::regclass
    LOOP
        EXECUTE format('CREATE TABLE standings_%s PARTITION OF standings %s WITH (fillfactor = 50)', part.month, part.bounds);
        EXECUTE format('CREATE TABLE submissions_%s PARTITION OF submissions %s', part.month, part.bounds);
    END LOOP;
END $$;
-- +goose StatementEnd

CREATE TABLE to_send (
    id          uuid        NOT NULL PRIMARY KEY,
    gateway_id  uuid        NOT NULL,
    lane        smallint    NOT NULL,
    due_at      timestamptz NOT NULL,
    valid_until timestamptz NOT NULL
) WITH (autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 5000, autovacuum_vacuum_cost_delay = 0);
CREATE INDEX to_send_by_turn ON to_send (gateway_id, lane, due_at, id);
CREATE INDEX to_send_by_validity ON to_send (valid_until);

-- Messages that a gateway has, or may have, and of which the end is not known.
CREATE TABLE to_ask (
    id         uuid        NOT NULL PRIMARY KEY,
    gateway_id uuid        NOT NULL,
    ask_at     timestamptz NOT NULL,
    give_up_at timestamptz NOT NULL,
    began_at   timestamptz NOT NULL, -- the last submission
    asks       integer     NOT NULL DEFAULT 0
) WITH (autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 5000, autovacuum_vacuum_cost_delay = 0, fillfactor = 80);
CREATE INDEX to_ask_by_time ON to_ask (gateway_id, ask_at);

-- Callbacks that nobody has read yet.
CREATE TABLE to_read (
    id         uuid NOT NULL PRIMARY KEY,
    gateway_id uuid NOT NULL,
    query      text -- as it came, where secrets in it were masked for keeping; NULL: nothing was
) WITH (autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 5000, autovacuum_vacuum_cost_delay = 0);

-- Messages in the states that people look for, which are the rare ones; and,
-- as a state of its own, those that are contested.
CREATE TABLE marks (
    mark text NOT NULL,
    id   uuid NOT NULL,
    PRIMARY KEY (mark, id)
);

-- How many messages are in each state, by when they were accepted. Deltas are
-- written with what they count and added up later.
CREATE TABLE tallies (
    grain      text        NOT NULL, -- hour or day
    began_at   timestamptz NOT NULL,
    cut_id     integer     NOT NULL,
    gateway_id uuid        NOT NULL,
    state      text        NOT NULL,
    contested  boolean     NOT NULL,
    n          bigint      NOT NULL,
    PRIMARY KEY (grain, began_at, cut_id, gateway_id, state, contested)
) WITH (fillfactor = 70, autovacuum_vacuum_scale_factor = 0.05);
CREATE TABLE tally_deltas (
    seq        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    hour       timestamptz NOT NULL,
    cut_id     integer     NOT NULL,
    gateway_id uuid        NOT NULL,
    state      text        NOT NULL,
    contested  boolean     NOT NULL,
    n          integer     NOT NULL
) WITH (autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 2000, autovacuum_vacuum_cost_delay = 0);

INSERT INTO standings (id, gateway_id, valid_until, changed_at, settled_at, price_micros, cut_id, attempts, lane, state, cause, rivals, currency)
SELECT m.id, m.gateway_id, m.valid_until, m.changed_at, m.settled_at, m.price_micros, c.id, m.attempts, m.lane, m.state, m.cause, m.rivals, m.currency
FROM messages m JOIN cuts c USING (key_id, sender, country, kind, template);

INSERT INTO to_send (id, gateway_id, lane, due_at, valid_until)
SELECT id, gateway_id, lane, CASE state WHEN 'held' THEN '9999-12-31Z' ELSE due_at END, valid_until FROM messages WHERE state IN ('held', 'queued');

INSERT INTO submissions (message_id, attempt, gateway_id, began_at, gateway_ref)
SELECT DISTINCT ON (b.message_id, b.attempt) b.message_id, b.attempt, b.gateway_id, b.at, coalesce(r.gateway_ref, '')
FROM evidence b JOIN messages m ON m.id = b.message_id LEFT JOIN LATERAL (
    SELECT e.gateway_ref FROM evidence e WHERE e.message_id = b.message_id AND e.attempt = b.attempt AND e.gateway_ref <> ''
    ORDER BY array_position(ARRAY['reply', 'query', 'receipt', 'statement'], e.source), e.gateway_at DESC NULLS LAST, e.gateway_ref LIMIT 1) r ON true
WHERE b.source = 'own' AND b.claim = 'sending' AND b.attempt > 0 AND b.gateway_id IS NOT NULL AND NOT (m.state = 'sending' AND m.attempts = b.attempt)
ORDER BY b.message_id, b.attempt, b.id;

INSERT INTO to_ask (id, gateway_id, ask_at, give_up_at, began_at, asks)
SELECT m.id, m.gateway_id, coalesce(m.ask_at, m.give_up_at, now() + interval '72 hours'), coalesce(m.give_up_at, m.ask_at, now() + interval '72 hours'),
       coalesce((SELECT max(e.at) FROM evidence e WHERE e.message_id = m.id AND e.claim = 'sending'), m.changed_at), m.asks
FROM messages m WHERE m.state IN ('sending', 'doubtful', 'accepted', 'enroute');

-- The beginning of a submission is told by the submission itself.
DELETE FROM evidence e USING submissions s WHERE e.message_id = s.message_id AND e.attempt = s.attempt AND e.source = 'own' AND e.claim = 'sending';
DELETE FROM evidence e USING to_ask a WHERE e.message_id = a.id AND e.source = 'own' AND e.claim = 'sending'
    AND NOT EXISTS (SELECT FROM submissions s WHERE s.message_id = e.message_id AND s.attempt = e.attempt);

INSERT INTO marks (mark, id)
SELECT state, id FROM messages WHERE state IN ('held', 'doubtful', 'undeliverable', 'expired', 'rejected', 'cancelled', 'unknown')
UNION ALL SELECT 'contested', id FROM messages WHERE rivals <> '';

INSERT INTO tallies (grain, began_at, cut_id, gateway_id, state, contested, n)
SELECT g.grain, date_trunc(g.grain, to_timestamp(('x' || translate(left(s.id::text, 13), '-', ''))::bit(48)::bigint / 1000.0), 'UTC'),
       s.cut_id, s.gateway_id, s.state, s.rivals <> '', count(*)
FROM standings s, (VALUES ('hour'), ('day')) AS g (grain) GROUP BY 1, 2, 3, 4, 5, 6;

INSERT INTO to_read (id, gateway_id) SELECT id, gateway_id FROM receipts WHERE settled_at IS NULL;
DROP INDEX receipts_to_settle;
ALTER TABLE receipts DROP COLUMN settled_at;

DROP INDEX messages_to_send, messages_sending, messages_too_late, messages_to_ask, messages_by_gateway_ref, messages_by_state;
ALTER TABLE messages
    DROP COLUMN gateway_id, DROP COLUMN state, DROP COLUMN cause, DROP COLUMN rivals, DROP COLUMN attempts, DROP COLUMN gateway_ref,
    DROP COLUMN due_at, DROP COLUMN ask_at, DROP COLUMN asks, DROP COLUMN give_up_at, DROP COLUMN changed_at, DROP COLUMN settled_at,
    DROP COLUMN price_micros, DROP COLUMN currency,
    ALTER COLUMN fields DROP NOT NULL, ALTER COLUMN fields DROP DEFAULT,
    ADD COLUMN begun text; -- why it takes its gateway, as it was accepted; NULL: its evidence tells

-- +goose Down
SELECT 'migrations only go forward' WHERE false;
