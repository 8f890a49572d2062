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
