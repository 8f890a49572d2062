package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/latency"
)

// How long messages took is counted as tallies are: as deltas, by the transaction that learns that one
// arrived, and added up later. An arrival is counted when it becomes known and stays counted, whatever is
// said later: it tells how the gateway fared, not where messages stand.

// arrived is one count: how many messages arrived in an hour that took so long.
type arrived struct {
	hour    time.Time
	cut     int32
	gateway uuid.UUID
	bucket  latency.Bucket
}

type arrivalDeltas map[arrived]int

// note counts a message that has become delivered, if it is known when its submission began and somebody who
// names it told when it arrived.
func (d arrivalDeltas) note(before, m *Message, known delivery.Outcome, evidence []Evidence) {
	if m.State != delivery.Delivered || !isOpen(before.State) || known.Attempt != before.Attempts || before.BeganAt.IsZero() {
		return
	}
	var at time.Time
	for _, e := range evidence {
		if e.Claim == delivery.Delivered && e.Attempt == known.Attempt && e.Ground == 0 {
			if told := arrivedAt(&e, before.BeganAt); told.After(at) { // the last of the segments
				at = told
			}
		}
	}
	if !at.IsZero() {
		d[arrived{at.UTC().Truncate(time.Hour), m.cut, m.GatewayID, latency.BucketOf(at.Sub(before.BeganAt))}]++
	}
}

// arrivedAt is when a handset had what is claimed to have been delivered: when we were told, by our own clock,
// which needs no other. An answer to a question comes when we asked; there the gateway's time is taken, where
// it lies between the beginning and the answer.
func arrivedAt(e *Evidence, began time.Time) time.Time {
	if e.Source == delivery.Query && e.GatewayAt != nil && e.GatewayAt.After(began) && e.GatewayAt.Before(e.At) {
		return *e.GatewayAt
	}
	return e.At
}

func (d arrivalDeltas) queue(b *pgx.Batch) {
	set := sums(d)
	if set == nil {
		return
	}
	b.Queue(`INSERT INTO arrival_deltas (hour, cut_id, gateway_id, bucket, n)
		SELECT * FROM unnest($1::timestamptz[], $2::int[], $3::uuid[], $4::int[], $5::int[])`,
		column(set, func(s *sum[arrived]) time.Time { return s.of.hour }), column(set, func(s *sum[arrived]) int32 { return s.of.cut }),
		ids(set, func(s *sum[arrived]) uuid.UUID { return s.of.gateway }),
		numbers(set, func(s *sum[arrived]) int { return int(s.of.bucket) }), numbers(set, func(s *sum[arrived]) int { return s.n }))
}

// compactArrivals adds them up by hour and by day.
const compactArrivals = `WITH turn AS MATERIALIZED (SELECT pg_try_advisory_xact_lock(hashtext('pigeon arrivals')) AS mine),
	gone AS (DELETE FROM arrival_deltas WHERE ctid = ANY (ARRAY(SELECT ctid FROM arrival_deltas WHERE (SELECT mine FROM turn) LIMIT $1))
		RETURNING hour, cut_id, gateway_id, bucket, n),
	sums AS (SELECT g.grain, date_trunc(g.grain, d.hour, 'UTC') AS began_at, d.gateway_id, coalesce(c.country, '') AS country,
			coalesce(c.kind, '') AS kind, d.bucket, sum(d.n) AS n
		FROM gone d LEFT JOIN cuts c ON c.id = d.cut_id, (VALUES ('hour'), ('day')) AS g (grain) GROUP BY 1, 2, 3, 4, 5, 6),
	added AS (INSERT INTO arrivals AS a (grain, began_at, gateway_id, country, kind, bucket, n)
		SELECT grain, began_at, gateway_id, country, kind, bucket, n FROM sums
		ON CONFLICT (grain, began_at, gateway_id, country, kind, bucket) DO UPDATE SET n = a.n + excluded.n)
	SELECT count(*)::int FROM gone`

// Along is by what messages that arrived or ended are told apart.
type Along struct {
	At      time.Time // of the hour or day; zero if these are not told apart
	Gateway uuid.UUID
	Country string
	Kind    string
}

// Faring chooses what is told of how gateways fared: in which hours or days, through which gateway, to which
// country, of which kind; and what is told apart.
type Faring struct {
	Since, Until              time.Time // whole hours, or whole days of UTC
	Daily                     bool
	Gateway                   uuid.UUID
	Country, Kind             string
	ByTime, ByCountry, ByKind bool // gateways always are
}

// grain is what counts are kept by.
func (f Faring) grain() string {
	if f.Daily {
		return "day"
	}
	return "hour"
}

// sql asks for counts of what was added up and of deltas that were not yet.
//
//	kept, deltas  the tables; of deltas the span is that of hours
//	what          the column by which is counted
func (f Faring) sql(kept, deltas, what string) (string, []any) {
	of := conditions{"at >= $1 AND at < $2", []any{f.Since, f.Until}}
	of.meet("gateway_id", f.Gateway, f.Gateway != uuid.Nil)
	of.meet("country", f.Country, f.Country != "")
	of.meet("kind", f.Kind, f.Kind != "")
	along := func(chosen bool, column string) string {
		if chosen {
			return column
		}
		return "''"
	}
	at := "NULL::timestamptz"
	if f.ByTime {
		at = "date_trunc('" + f.grain() + "', at, 'UTC')"
	}
	apart := at + ", gateway_id, " + along(f.ByCountry, "country") + ", " + along(f.ByKind, "kind")
	return `SELECT ` + apart + `, ` + what + `, sum(n)::bigint
		FROM (` + fmt.Sprintf(kept, f.grain()) + ` UNION ALL ` + deltas + `) AS counts
		WHERE ` + of.where + ` GROUP BY 1, 2, 3, 4, 5 HAVING sum(n) <> 0`, of.args
}

// Arrivals are how long messages took that arrived.
func (s *Store) Arrivals(ctx context.Context, f Faring) (map[Along]*latency.Histogram, error) {
	sql, args := f.sql(`SELECT began_at AS at, gateway_id, country, kind, bucket::int, n FROM arrivals WHERE grain = '%s'`,
		`SELECT d.hour, d.gateway_id, c.country, c.kind, d.bucket::int, d.n FROM arrival_deltas d JOIN cuts c ON c.id = d.cut_id`, "bucket")
	found := map[Along]*latency.Histogram{}
	_, err := query(ctx, s.reading(), func(rows pgx.Rows) (one struct{}, err error) {
		var a Along
		var at *time.Time
		var bucket int
		var n int64
		if err := rows.Scan(&at, &a.Gateway, &a.Country, &a.Kind, &bucket, &n); err != nil {
			return one, err
		}
		if at != nil {
			a.At = at.UTC()
		}
		if found[a] == nil {
			found[a] = &latency.Histogram{}
		}
		found[a].Add(latency.Bucket(bucket), n)
		return one, nil
	}, sql, args...)
	if err != nil {
		return nil, fmt.Errorf("reading how long messages took: %w", err)
	}
	return found, nil
}

// Endings are the states of messages by when they were accepted.
func (s *Store) Endings(ctx context.Context, f Faring) (map[Along]*delivery.Tally, error) {
	sql, args := f.sql(`SELECT t.began_at AS at, t.gateway_id, c.country, c.kind, t.state, t.n FROM tallies t JOIN cuts c ON c.id = t.cut_id
			WHERE t.grain = '%s'`,
		`SELECT d.hour, d.gateway_id, c.country, c.kind, d.state, d.n FROM tally_deltas d JOIN cuts c ON c.id = d.cut_id`, "state")
	found := map[Along]*delivery.Tally{}
	_, err := query(ctx, s.reading(), func(rows pgx.Rows) (one struct{}, err error) {
		var a Along
		var at *time.Time
		var state delivery.State
		var n int64
		if err := rows.Scan(&at, &a.Gateway, &a.Country, &a.Kind, &state, &n); err != nil {
			return one, err
		}
		if at != nil {
			a.At = at.UTC()
		}
		if found[a] == nil {
			found[a] = &delivery.Tally{}
		}
		found[a].Add(state, n)
		return one, nil
	}, sql, args...)
	if err != nil {
		return nil, fmt.Errorf("reading how messages ended: %w", err)
	}
	return found, nil
}
