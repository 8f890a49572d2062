package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/delivery"
)

// batchCounted is one count of a batch's messages.
type batchCounted struct {
	first, gateway uuid.UUID
	state          delivery.State
	cause          delivery.Cause
	currency       string
}

type amount struct {
	n      int
	micros int64
}

// batchDeltas is by how much the counts of batches change.
type batchDeltas map[batchCounted]amount

// add counts a message, n times, if it is of a batch.
func (d batchDeltas) add(m *Message, n int) {
	first, _, ok := BatchOf(m.ID)
	if !ok {
		return
	}
	c := batchCounted{first, m.GatewayID, m.State, m.Cause, m.Price.Currency()}
	a := d[c]
	a.n, a.micros = a.n+n, a.micros+int64(n)*m.Price.Micros()
	d[c] = a
}

// move counts a message where it is now, and no longer where it was.
func (d batchDeltas) move(before, after *Message) {
	d.add(before, -1)
	d.add(after, 1)
}

func (d batchDeltas) queue(b *pgx.Batch) {
	type delta struct {
		batchCounted
		amount
	}
	var set []delta
	for c, a := range d {
		if a != (amount{}) {
			set = append(set, delta{c, a})
		}
	}
	if set == nil {
		return
	}
	b.Queue(`INSERT INTO batch_deltas (first, gateway_id, state, cause, currency, n, micros)
		SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::text[], $4::text[], $5::text[], $6::int[], $7::bigint[])`,
		ids(set, func(d *delta) uuid.UUID { return d.first }), ids(set, func(d *delta) uuid.UUID { return d.gateway }),
		words(set, func(d *delta) delivery.State { return d.state }), words(set, func(d *delta) delivery.Cause { return d.cause }),
		words(set, func(d *delta) string { return d.currency }), numbers(set, func(d *delta) int { return d.n }),
		column(set, func(d *delta) int64 { return d.micros }))
}

const compactBatches = `WITH turn AS MATERIALIZED (SELECT pg_try_advisory_xact_lock(hashtext('pigeon batches')) AS mine),
	gone AS (DELETE FROM batch_deltas WHERE ctid = ANY (ARRAY(SELECT ctid FROM batch_deltas WHERE (SELECT mine FROM turn) LIMIT $1))
		RETURNING first, gateway_id, state, cause, currency, n, micros),
	sums AS (SELECT g.first, g.gateway_id, g.state, g.cause, g.currency, sum(g.n) AS n, sum(g.micros) AS micros
		FROM gone g WHERE EXISTS (SELECT FROM batches b WHERE b.first = g.first)
		GROUP BY 1, 2, 3, 4, 5 HAVING sum(g.n) <> 0 OR sum(g.micros) <> 0),
	added AS (INSERT INTO batch_counts AS c (first, gateway_id, state, cause, currency, n, micros)
		SELECT first, gateway_id, state, cause, currency, n, micros FROM sums
		ON CONFLICT (first, gateway_id, state, cause, currency)
		DO UPDATE SET n = c.n + excluded.n, micros = c.micros + excluded.micros)
	SELECT count(*)::int FROM gone`

// BatchCount is how many messages of a batch are somewhere, and what they cost by estimate.
type BatchCount struct {
	Gateway  uuid.UUID
	State    delivery.State
	Cause    delivery.Cause
	Currency string
	N        int64
	Micros   int64
	Waiting  bool // they are rows that are no messages yet
}

// CountBatch counts the rows of a batch that were accepted, in one statement and so at one
// moment: those that are messages, and those that wait to become some.
func (s *Store) CountBatch(ctx context.Context, b Batch) ([]BatchCount, error) {
	counts, err := s.CountBatches(ctx, []Batch{b})
	return counts[b.ID], err
}

// CountBatches does so for several, at one moment for all of them.
func (s *Store) CountBatches(ctx context.Context, batches []Batch) (map[uuid.UUID][]BatchCount, error) {
	var launched []Batch
	for _, b := range batches {
		if b.First != nil {
			launched = append(launched, b)
		}
	}
	counts := make(map[uuid.UUID][]BatchCount, len(launched))
	if launched == nil {
		return counts, nil
	}
	_, err := query(ctx, s.reading(), func(rows pgx.Rows) (c BatchCount, err error) {
		var id uuid.UUID
		if err = rows.Scan(&id, &c.Gateway, &c.State, &c.Cause, &c.Currency, &c.N, &c.Micros, &c.Waiting); err == nil {
			counts[id] = append(counts[id], c)
		}
		return c, err
	}, `SELECT b.id, c.gateway_id, c.state, c.cause, c.currency, c.n, c.micros, c.waiting
		FROM unnest($1::uuid[], $2::uuid[]) AS b (id, first), LATERAL (
			SELECT gateway_id, state, cause, currency, sum(n)::bigint AS n, sum(micros)::bigint AS micros, waiting FROM (
				SELECT gateway_id, state, cause, currency, n, micros, false AS waiting FROM batch_counts WHERE first = b.first
				UNION ALL SELECT gateway_id, state, cause, currency, n, micros, false FROM batch_deltas WHERE first = b.first
				UNION ALL SELECT gateway_id, state, '', '', n, 0, true FROM batch_waiting WHERE batch_id = b.id) AS counts
			GROUP BY 1, 2, 3, 4, 7 HAVING sum(n) <> 0) AS c ORDER BY b.id, c.state, c.cause, c.gateway_id`,
		ids(launched, func(b *Batch) uuid.UUID { return b.ID }), ids(launched, func(b *Batch) uuid.UUID { return *b.First }))
	if err != nil {
		return nil, fmt.Errorf("counting batches: %w", err)
	}
	return counts, nil
}

// Left are messages of a batch that are still to go, or rows that are to become some.
type Left struct {
	Gateway uuid.UUID
	Sender  string
	Hours   string     // of their feed
	Row     bool       // they are no messages yet
	Open    bool       // they need not be released
	Queued  bool       // they are counted so
	Until   *time.Time // they are held; nil: they are not
	N       float64
}

// leftMost is about how many messages of a batch are looked at to see what is left of it.
const leftMost = 20_000

// LeftOf counts what of a launched batch is still to go. messages is how many messages wait: of
// many only some are looked at, and stand for the others.
func (s *Store) LeftOf(ctx context.Context, b Batch, messages int64) ([]Left, error) {
	m := monthOf(*b.First)
	if !s.months.has(m) {
		return nil, nil
	}
	every := 1 // the last octet of an id is that of its row
	for every < 128 && messages > int64(every)*leftMost {
		every *= 2
	}
	left, err := query(ctx, s.reading(), func(rows pgx.Rows) (l Left, err error) {
		err = rows.Scan(&l.Gateway, &l.Sender, &l.Hours, &l.Row, &l.Open, &l.Queued, &l.Until, &l.N)
		return l, err
	}, m.in(`SELECT l.gateway_id, c.sender, l.hours, l.is_row, l.open, l.queued, l.until, sum(l.n)::float8 FROM (
			SELECT w.gateway_id, w.cut_id, f.hours, true AS is_row, f.open, w.state = 'queued' AS queued, NULL::timestamptz AS until, w.n
			FROM batch_waiting w JOIN batch_feeds f ON f.batch_id = w.batch_id AND f.n = w.feed WHERE w.batch_id = $1
			UNION ALL SELECT s.gateway_id, s.cut_id, '', false, true, true, NULL, $4
			FROM to_send t JOIN standings_%M s ON s.id = t.id
			WHERE t.id > $2 AND t.id <= $3 AND get_byte(uuid_send(t.id), 15) % $4 = 0
			UNION ALL SELECT h.gateway_id, s.cut_id, '', false, true, false, date_trunc('minute', h.release_at + interval '59 s'), $4
			FROM held h JOIN standings_%M s ON s.id = h.id
			WHERE h.id > $2 AND h.id <= $3 AND get_byte(uuid_send(h.id), 15) % $4 = 0) AS l
		JOIN cuts c ON c.id = l.cut_id GROUP BY 1, 2, 3, 4, 5, 6, 7`), b.ID, *b.First, lastOf(*b.First), every)
	if err != nil {
		s.missing(err)
		return nil, fmt.Errorf("counting what is left of a batch: %w", err)
	}
	return left, nil
}
