package store

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/batch"
)

// Paced is what has a pace of its own that holds for all gateways and instances, so
// that the database counts: a sender, or a batch.
type Paced struct {
	Batch uuid.UUID // its first message; nil: a sender
	Name  string    // of the sender
}

// Sent is how many messages of something with a pace are about to go. They count for a span.
type Sent struct {
	Paced
	N    int
	Span time.Duration
	In   time.Duration // until they leave
}

// Noted is the moment, by the database's clock, at which messages were noted as going.
type Noted struct {
	Paced
	At time.Time
}

// pacing is where it is kept when the last messages went.
type pacing struct{ table, column, kind, begin string }

var (
	senderPacing = pacing{"sender_paces", "sender_id", "text",
		"INSERT INTO sender_paces (sender_id) SELECT id FROM senders WHERE id = ANY($1::text[]) ORDER BY id ON CONFLICT DO NOTHING"}
	batchPacing = pacing{"batch_paces", "batch", "uuid",
		"INSERT INTO batch_paces (batch) SELECT first FROM batches WHERE first = ANY($1::uuid[]) ORDER BY first ON CONFLICT DO NOTHING"}
)

// divided divides records by where their paces are kept.
func divided[T any](all []T, of func(*T) Paced) map[*pacing][]T {
	parts := map[*pacing][]T{}
	for i := range all {
		where := &senderPacing
		if of(&all[i]).Batch != uuid.Nil {
			where = &batchPacing
		}
		parts[where] = append(parts[where], all[i])
	}
	return parts
}

// names is a column of what has paces.
func (p *pacing) names(n int, of func(int) Paced) any {
	if p == &batchPacing {
		all := make(uuids, n)
		for i := range all {
			all[i] = of(i).Batch
		}
		return all
	}
	all := make([]string, n)
	for i := range all {
		all[i] = of(i).Name
	}
	return all
}

// scan reads what has a pace, and the rest of the row.
func (p *pacing) scan(rows pgx.Rows, rest ...any) (of Paced, err error) {
	into := any(&of.Name)
	if p == &batchPacing {
		into = &of.Batch
	}
	err = rows.Scan(append([]any{into}, rest...)...)
	return of, err
}

// Ages locks paces and returns how long ago, by the database's clock, the messages went
// that count, the oldest first. It holds for all gateways and instances. Call it within
// [Store.Transact]; the locks last until it ends.
func (s *Store) Ages(ctx context.Context, paced []Sent) (map[Paced][]time.Duration, error) {
	ages := make(map[Paced][]time.Duration, len(paced))
	parts := divided(paced, func(p *Sent) Paced { return p.Paced })
	for _, where := range []*pacing{&senderPacing, &batchPacing} { // always in the same order
		some := parts[where]
		if len(some) == 0 {
			continue
		}
		names := where.names(len(some), func(i int) Paced { return some[i].Paced })
		var b pgx.Batch
		b.Queue(where.begin, names)
		if err := s.send(ctx, &b); err != nil {
			return nil, fmt.Errorf("pacing: %w", err)
		}
		type pace struct {
			of      Paced
			seconds []float64
		}
		// Always in the same order, so that two keepers never wait for each other.
		found, err := query(ctx, s.hot(), func(rows pgx.Rows) (p pace, err error) {
			p.of, err = where.scan(rows, &p.seconds)
			return p, err
		}, fmt.Sprintf(`SELECT p.%[2]s, ARRAY(SELECT extract(epoch FROM clock_timestamp() - at)::float8 FROM unnest(p.recent) AS at
				WHERE at > clock_timestamp() - make_interval(secs => n.span) ORDER BY at)
			FROM unnest($1::%[3]s[], $2::float8[]) AS n (of, span) JOIN %[1]s p ON p.%[2]s = n.of ORDER BY p.%[2]s FOR UPDATE OF p`,
			where.table, where.column, where.kind), names, column(some, func(p *Sent) float64 { return p.Span.Seconds() }))
		if err != nil {
			return nil, fmt.Errorf("pacing: %w", err)
		}
		for _, f := range found {
			own := make([]time.Duration, len(f.seconds))
			for i, age := range f.seconds {
				own[i] = time.Duration(age * float64(time.Second))
			}
			// The clock runs on while they are read.
			slices.SortFunc(own, func(a, b time.Duration) int { return cmp.Compare(b, a) })
			ages[f.of] = own
		}
	}
	return ages, nil
}

// NoteSent notes that messages are about to go. What is older than their span is forgotten.
func (s *Store) NoteSent(ctx context.Context, sent []Sent) ([]Noted, error) {
	var all []Noted
	for where, some := range divided(sent, func(p *Sent) Paced { return p.Paced }) {
		noted, err := query(ctx, s.hot(), func(rows pgx.Rows) (n Noted, err error) {
			n.Paced, err = where.scan(rows, &n.At)
			return n, err
		}, fmt.Sprintf(`UPDATE %[1]s p SET recent = ARRAY(SELECT at FROM unnest(recent) AS at
			WHERE at > clock_timestamp() - make_interval(secs => sent.span) ORDER BY at)
				|| array_fill(clock_timestamp() + make_interval(secs => sent.later), ARRAY[sent.n])
			FROM unnest($1::%[3]s[], $2::int[], $3::float8[], $4::float8[]) AS sent (of, n, span, later) WHERE p.%[2]s = sent.of
			RETURNING p.%[2]s, recent[cardinality(recent)] AS at`, where.table, where.column, where.kind),
			where.names(len(some), func(i int) Paced { return some[i].Paced }), numbers(some, func(p *Sent) int { return p.N }),
			column(some, func(p *Sent) float64 { return p.Span.Seconds() }), column(some, func(p *Sent) float64 { return p.In.Seconds() }))
		if err != nil {
			return nil, fmt.Errorf("pacing: %w", err)
		}
		all = append(all, noted...)
	}
	return all, nil
}

// NoteGone notes that messages went only now: what was noted as about to go may have waited for
// its commit and for its turn.
func (s *Store) NoteGone(ctx context.Context, noted []Noted) error {
	var b pgx.Batch
	for where, some := range divided(noted, func(n *Noted) Paced { return n.Paced }) {
		b.Queue(fmt.Sprintf(`UPDATE %[1]s p SET recent = array_replace(recent, noted.at, greatest(noted.at, clock_timestamp()))
			FROM unnest($1::%[3]s[], $2::timestamptz[]) AS noted (of, at) WHERE p.%[2]s = noted.of`, where.table, where.column, where.kind),
			where.names(len(some), func(i int) Paced { return some[i].Paced }), column(some, func(n *Noted) time.Time { return n.At }))
	}
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("pacing: %w", err)
	}
	return nil
}

// BatchNow is what of a batch its messages have to know when they go.
type BatchNow struct {
	State batch.State
	Why   string
	Pace  batch.Pace
}

// BatchesOf are the batches of messages, by their first.
func (s *Store) BatchesOf(ctx context.Context, messages []Message) (map[uuid.UUID]BatchNow, error) {
	var firsts uuids
	for i := range messages {
		if first, _, ok := BatchOf(messages[i].ID); ok && !slices.Contains(firsts, first) {
			firsts = append(firsts, first)
		}
	}
	if firsts == nil {
		return nil, nil
	}
	batches := make(map[uuid.UUID]BatchNow, len(firsts))
	_, err := query(ctx, s.hot(), func(rows pgx.Rows) (first uuid.UUID, err error) {
		var b BatchNow
		var ms int
		err = rows.Scan(&first, &b.State, &b.Why, &b.Pace.N, &ms)
		b.Pace.Per = time.Duration(ms) * time.Millisecond
		batches[first] = b
		return first, err
	}, "SELECT first, state, why, pace_n, pace_ms FROM batches WHERE first = ANY($1)", firsts)
	if err != nil {
		return nil, fmt.Errorf("reading batches: %w", err)
	}
	return batches, nil
}

// Never is when a message is due that is held back.
func Never() time.Time { return never }
