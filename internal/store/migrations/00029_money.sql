-- +goose Up

-- What of a message's price its characters cost that could be replaced safely; NULL: nothing.
ALTER TABLE standings ADD COLUMN avoidable_micros bigint;

-- What messages cost that went to a gateway, or may have: by how much it changes, and added up by day of acceptance.
CREATE TABLE money_deltas (
    seq              bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    day              timestamptz NOT NULL,
    cut_id           integer     NOT NULL,
    gateway_id       uuid        NOT NULL,
    currency         text        NOT NULL, -- of the estimate; empty: there is none
    told_currency    text        NOT NULL, -- of what the gateway told; empty: it did not say
    told             boolean     NOT NULL, -- it told a charge
    n                integer     NOT NULL,
    micros           bigint      NOT NULL, -- estimated
    told_micros      bigint      NOT NULL,
    avoidable_n      integer     NOT NULL,
    avoidable_micros bigint      NOT NULL
);

CREATE TABLE money (
    day              timestamptz NOT NULL,
    gateway_id       uuid        NOT NULL,
    country          text        NOT NULL,
    kind             text        NOT NULL,
    currency         text        NOT NULL,
    told_currency    text        NOT NULL,
    told             boolean     NOT NULL,
    n                bigint      NOT NULL,
    micros           bigint      NOT NULL,
    told_micros      bigint      NOT NULL,
    avoidable_n      bigint      NOT NULL,
    avoidable_micros bigint      NOT NULL,
    PRIMARY KEY (day, gateway_id, country, kind, currency, told_currency, told)
);

-- Messages that went before this was kept. What gateways told of them stands in their evidence only.
INSERT INTO money
SELECT date_trunc('day', to_timestamp(('x' || translate(left(s.id::text, 13), '-', ''))::bit(48)::bigint / 1000.0), 'UTC'),
    s.gateway_id, c.country, c.kind, s.currency, '', false, count(*), coalesce(sum(s.price_micros), 0), 0, 0, 0
FROM standings s JOIN cuts c ON c.id = s.cut_id
WHERE s.attempts > 0 AND s.state IN ('doubtful', 'accepted', 'enroute', 'delivered', 'undeliverable', 'unknown', 'expired')
    AND NOT (s.state = 'expired' AND s.cause = 'too_late')
GROUP BY 1, 2, 3, 4, 5;

ALTER TABLE statement_lines ADD COLUMN country text NOT NULL DEFAULT '';

-- What statements bill, by day of acceptance, or of the line where it is of no message.
CREATE TABLE statement_money (
    statement_id  uuid        NOT NULL,
    gateway_id    uuid        NOT NULL,
    day           timestamptz NOT NULL,
    country       text        NOT NULL,
    matched       boolean     NOT NULL,
    currency      text        NOT NULL, -- of the bill
    ours_currency text        NOT NULL, -- of the estimate; empty: there is none
    n             bigint      NOT NULL,
    micros        bigint      NOT NULL,
    ours_micros   bigint      NOT NULL,
    PRIMARY KEY (statement_id, day, country, matched, currency, ours_currency)
);
CREATE INDEX statement_money_by_day ON statement_money (day);

INSERT INTO statement_money
SELECT l.statement_id, t.gateway_id,
    date_trunc('day', coalesce(to_timestamp(('x' || translate(left(l.message_id::text, 13), '-', ''))::bit(48)::bigint / 1000.0),
        l.at, t.created_at), 'UTC'),
    coalesce(m.country, ''), l.message_id IS NOT NULL, l.charge_currency, l.ours_currency, count(*),
    sum(l.charge_micros), coalesce(sum(l.ours_micros), 0)
FROM statement_lines l JOIN statements t ON t.id = l.statement_id LEFT JOIN messages m ON m.id = l.message_id
WHERE l.charge_micros IS NOT NULL AND l.wrong = '' AND t.state IN ('applying', 'done')
GROUP BY 1, 2, 3, 4, 5, 6, 7;
