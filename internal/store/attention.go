package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/delivery"
)

// Wanting is how many messages of a gateway want a person, or nearly.
type Wanting struct {
	Gateway   uuid.UUID
	State     delivery.State
	Contested bool
	N         int64
	Since     time.Time // the first of them has been so since
}

// WantingMost is how many are counted at most, of each sort.
const WantingMost = 10_000

// Wanting counts the messages about which nobody has decided: of which nobody knows the end, or two are
// claimed; and those that have been in doubt since before a moment. It looks at short lists, and at their ends
// if they are long.
func (s *Store) Wanting(ctx context.Context, doubtBefore time.Time) ([]Wanting, error) {
	type listed struct {
		mark string
		id   uuid.UUID
	}
	found, err := query(ctx, s.reading(), func(rows pgx.Rows) (l listed, err error) {
		err = rows.Scan(&l.mark, &l.id)
		return l, err
	}, fmt.Sprintf(`(SELECT mark, id FROM marks WHERE mark = $1 ORDER BY id DESC LIMIT %d) UNION ALL
		(SELECT mark, id FROM marks WHERE mark = $2 ORDER BY id DESC LIMIT %d)`, WantingMost, WantingMost), undecidedMark, delivery.Doubtful)
	if err != nil {
		return nil, fmt.Errorf("looking for what wants a person: %w", err)
	}
	type key struct {
		gateway   uuid.UUID
		state     delivery.State
		contested bool
	}
	sums := map[key]*Wanting{}
	var order []key
	for m, some := range byMonth(s, found, func(l *listed) uuid.UUID { return l.id }) {
		counted, err := query(ctx, s.reading(), func(rows pgx.Rows) (w Wanting, err error) {
			err = rows.Scan(&w.Gateway, &w.State, &w.Contested, &w.N, &w.Since)
			return w, err
		}, m.in(`SELECT gateway_id, state, rivals <> '', count(*), min(changed_at) FROM standings_%M
			WHERE id = ANY($1) AND (state <> 'doubtful' OR changed_at < $2) GROUP BY 1, 2, 3`),
			ids(some, func(l *listed) uuid.UUID { return l.id }), doubtBefore)
		if err != nil {
			s.missing(err)
			return nil, fmt.Errorf("counting what wants a person: %w", err)
		}
		for _, w := range counted {
			k := key{w.Gateway, w.State, w.Contested}
			sum := sums[k]
			if sum == nil {
				sum = &Wanting{Gateway: w.Gateway, State: w.State, Contested: w.Contested, Since: w.Since}
				sums[k] = sum
				order = append(order, k)
			}
			sum.N += w.N
			if w.Since.Before(sum.Since) {
				sum.Since = w.Since
			}
		}
	}
	all := make([]Wanting, len(order))
	for i, k := range order {
		all[i] = *sums[k]
	}
	return all, nil
}

// OpenSince counts the messages whose submission through a gateway began within a span of time, and that are
// still open; at most so many.
func (s *Store) OpenSince(ctx context.Context, gateway uuid.UUID, from, until time.Time, most int) (int, error) {
	n, err := query(
		ctx,
		s.reading(),
		func(rows pgx.Rows) (n int, err error) { err = rows.Scan(&n); return n, err },
		"SELECT count(*) FROM (SELECT FROM to_ask WHERE gateway_id = $1 AND began_at BETWEEN $2 AND $3 LIMIT $4) AS o",
		gateway,
		from,
		until,
		most,
	)
	if err != nil {
		return 0, fmt.Errorf("counting what is open: %w", err)
	}
	return n[0], nil // a count has one row
}

// Attended is something that wants somebody, of which was told.
type Attended struct {
	Key   string
	ID    uuid.UUID // the subject of its events
	Since time.Time
	What  []byte // as it was told, in JSON
}

// AttentionTold is what was told of and still stands.
func (s *Store) AttentionTold(ctx context.Context) ([]Attended, error) {
	all, err := query(ctx, s.hot(), func(rows pgx.Rows) (a Attended, err error) {
		err = rows.Scan(&a.Key, &a.ID, &a.Since, &a.What)
		return a, err
	}, "SELECT key, id, since, what FROM attention_told ORDER BY key "+s.locking("FOR UPDATE"))
	if err != nil {
		return nil, fmt.Errorf("reading what wanted somebody: %w", err)
	}
	return all, nil
}

// NoteAttention notes of what was told, and what wants nobody any more.
func (s *Store) NoteAttention(ctx context.Context, raised []Attended, settled []string) error {
	var b pgx.Batch
	b.Queue(`INSERT INTO attention_told (key, id, since, what) SELECT key, id, since, what::json
		FROM unnest($1::text[], $2::uuid[], $3::timestamptz[], $4::text[]) AS n (key, id, since, what)`,
		words(raised, func(a *Attended) string { return a.Key }), ids(raised, func(a *Attended) uuid.UUID { return a.ID }),
		column(raised, func(a *Attended) time.Time { return a.Since }), column(raised, func(a *Attended) string { return string(a.What) }))
	b.Queue("DELETE FROM attention_told WHERE key = ANY($1)", nonNil(settled))
	return s.send(ctx, &b)
}

// Queue is what waits for a gateway.
type Queue struct {
	N     int
	Since time.Time // the first of them was due
}

// Unkept counts messages that were due before a moment, at most so many, of gateways that nobody has kept
// since.
func (s *Store) Unkept(ctx context.Context, before time.Time, most int) (map[uuid.UUID]Queue, error) {
	queues := map[uuid.UUID]Queue{}
	_, err := query(ctx, s.reading(), func(rows pgx.Rows) (none struct{}, err error) {
		var gateway uuid.UUID
		var q Queue
		err = rows.Scan(&gateway, &q.N, &q.Since)
		queues[gateway] = q
		return none, err
	}, `SELECT g.id, w.n, w.since FROM gateways g LEFT JOIN keepers k ON k.gateway_id = g.id,
			LATERAL (SELECT count(*)::int AS n, min(due_at) AS since FROM (
				SELECT due_at FROM to_send q WHERE q.gateway_id = g.id AND q.lane IN (0, 1, 2) AND q.due_at <= $1 LIMIT $2) AS due) AS w
		WHERE g.removed_at IS NULL AND coalesce(k.until, '-infinity') < $1 AND w.n > 0`, before, most)
	if err != nil {
		return nil, fmt.Errorf("looking for gateways that nobody keeps: %w", err)
	}
	return queues, nil
}

// Overdue counts messages of a gateway that were to be looked after before a moment, at most so many.
func (s *Store) Overdue(ctx context.Context, gateway uuid.UUID, before time.Time, most int) (n int, err error) {
	err = s.pools[1].QueryRow(ctx, "SELECT count(*) FROM (SELECT FROM to_ask WHERE gateway_id = $1 AND ask_at <= $2 LIMIT $3) AS late",
		gateway, before, most).Scan(&n)
	if err != nil {
		return 0, fmt.Errorf("counting messages that nobody looks after: %w", err)
	}
	return n, nil
}
