-- +goose Up

-- Messages are also counted by ten minutes, so that a span that begins within an
-- hour is no longer counted message by message for up to half an hour.
WITH gone AS (DELETE FROM tally_deltas RETURNING hour, cut_id, gateway_id, state, contested, n)
INSERT INTO tallies AS t (grain, began_at, cut_id, gateway_id, state, contested, n)
SELECT g.grain, date_trunc(g.grain, d.hour, 'UTC'), d.cut_id, d.gateway_id, d.state, d.contested, sum(d.n)
FROM gone d, (VALUES ('hour'), ('day')) AS g (grain) GROUP BY 1, 2, 3, 4, 5, 6
ON CONFLICT (grain, began_at, cut_id, gateway_id, state, contested) DO UPDATE SET n = t.n + excluded.n;

ALTER TABLE tally_deltas RENAME COLUMN hour TO began_at; -- the ten minutes

INSERT INTO tallies (grain, began_at, cut_id, gateway_id, state, contested, n)
SELECT 'ten minutes', date_bin('10 minutes', to_timestamp(('x' || translate(left(s.id::text, 13), '-', ''))::bit(48)::bigint / 1000.0), 'epoch'),
       s.cut_id, s.gateway_id, s.state, s.rivals <> '', count(*)
FROM standings s GROUP BY 2, 3, 4, 5, 6;
