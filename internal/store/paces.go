package store

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
)

// SenderAges locks the paces of senders and returns how long ago, by the
// database's clock, the messages of the last span went, the oldest first. It
// holds for all gateways and instances. Call it within [Store.Transact]; the
// locks last until it ends.
func (s *Store) SenderAges(ctx context.Context, senders []string, span time.Duration) (map[string][]time.Duration, error) {
	var b pgx.Batch
	b.Queue(
		`INSERT INTO sender_paces (sender_id) SELECT id FROM senders WHERE id = ANY($1::text[]) ORDER BY id ON CONFLICT DO NOTHING`,
		senders,
	)
	if err := s.send(ctx, &b); err != nil {
		return nil, fmt.Errorf("pacing senders: %w", err)
	}
	type pace struct {
		sender  string
		seconds []float64
	}
	// Always in the same order, so that two keepers never wait for each other.
	found, err := query(ctx, s.hot(), func(rows pgx.Rows) (p pace, err error) {
		err = rows.Scan(&p.sender, &p.seconds)
		return p, err
	}, `SELECT sender_id, ARRAY(SELECT extract(epoch FROM clock_timestamp() - at)::float8 FROM unnest(recent) AS at
			WHERE at > clock_timestamp() - make_interval(secs => $2) ORDER BY at)
		FROM sender_paces WHERE sender_id = ANY($1::text[]) ORDER BY sender_id FOR UPDATE`, senders, span.Seconds())
	if err != nil {
		return nil, fmt.Errorf("pacing senders: %w", err)
	}
	ages := make(map[string][]time.Duration, len(found))
	for _, f := range found {
		own := make([]time.Duration, len(f.seconds))
		for i, age := range f.seconds {
			own[i] = time.Duration(age * float64(time.Second))
		}
		// The clock runs on while they are read.
		slices.SortFunc(own, func(a, b time.Duration) int { return cmp.Compare(b, a) })
		ages[f.sender] = own
	}
	return ages, nil
}

// Noted is the moment, by the database's clock, at which the messages of a
// sender were noted as going.
type Noted struct {
	Sender string
	At     time.Time
}

// SendersSent notes that so many messages of senders are about to go. What is
// older than the span is forgotten.
func (s *Store) SendersSent(ctx context.Context, sent map[string]int, span time.Duration) ([]Noted, error) {
	var senders []string
	var counts []int32
	for sender, n := range sent {
		if n > 0 {
			senders, counts = append(senders, sender), append(counts, int32(n))
		}
	}
	if senders == nil {
		return nil, nil
	}
	noted, err := query(ctx, s.hot(), func(rows pgx.Rows) (n Noted, err error) {
		err = rows.Scan(&n.Sender, &n.At)
		return n, err
	}, `UPDATE sender_paces p SET recent = ARRAY(SELECT at FROM unnest(recent) AS at
		WHERE at > clock_timestamp() - make_interval(secs => $3) ORDER BY at)
			|| array_fill(clock_timestamp(), ARRAY[sent.n])
		FROM unnest($1::text[], $2::int[]) AS sent (sender, n) WHERE p.sender_id = sent.sender
		RETURNING p.sender_id AS sender, recent[cardinality(recent)] AS at`, senders, counts, span.Seconds())
	if err != nil {
		return nil, fmt.Errorf("pacing senders: %w", err)
	}
	return noted, nil
}

// SendersWent notes that messages went only now: what was noted as about to go
// may have waited for its commit and for its turn.
func (s *Store) SendersWent(ctx context.Context, noted []Noted) error {
	var b pgx.Batch
	b.Queue(`UPDATE sender_paces p SET recent = array_replace(recent, noted.at, clock_timestamp())
		FROM unnest($1::text[], $2::timestamptz[]) AS noted (sender, at) WHERE p.sender_id = noted.sender`,
		words(noted, func(n *Noted) string { return n.Sender }), column(noted, func(n *Noted) time.Time { return n.At }))
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("pacing senders: %w", err)
	}
	return nil
}
