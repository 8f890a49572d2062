package store

import (
	"cmp"
	"context"
	"fmt"
	"maps"
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

// Leaving is a message of something with a pace that is about to go. It counts for a span from
// when it is known to have arrived. Until somebody tells when that was ([Store.NoteGone]) it may
// arrive at any moment, for Within at most.
type Leaving struct {
	Paced
	Message uuid.UUID
	Span    time.Duration
	Within  time.Duration
}

// Noted is a message that was noted as going at a moment, by the database's clock.
type Noted struct {
	Paced
	Message uuid.UUID
	At      time.Time
	Ago     time.Duration // since it went; see [Store.NoteGone]
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
func (p *pacing) names(all []Paced) any {
	if p == &batchPacing {
		return ids(all, func(p *Paced) uuid.UUID { return p.Batch })
	}
	return column(all, func(p *Paced) string { return p.Name })
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
// that count, the oldest first; 0 for those that may arrive at any moment. It holds for all gateways and instances. Call it within
// [Store.Transact]; the locks last until it ends.
func (s *Store) Ages(ctx context.Context, spans map[Paced]time.Duration) (map[Paced][]time.Duration, error) {
	ages := make(map[Paced][]time.Duration, len(spans))
	parts := divided(slices.Collect(maps.Keys(spans)), func(p *Paced) Paced { return *p })
	for _, where := range []*pacing{&senderPacing, &batchPacing} { // always in the same order
		some := parts[where]
		if len(some) == 0 {
			continue
		}
		names := where.names(some)
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
		}, fmt.Sprintf(`SELECT p.%[2]s, ARRAY(SELECT greatest(extract(epoch FROM clock_timestamp() - at), 0)::float8 FROM unnest(p.recent) AS at
				WHERE at > clock_timestamp() - make_interval(secs => n.span) ORDER BY at)
			FROM unnest($1::%[3]s[], $2::float8[]) AS n (of, span) JOIN %[1]s p ON p.%[2]s = n.of ORDER BY p.%[2]s FOR UPDATE OF p`,
			where.table, where.column, where.kind), names, column(some, func(p *Paced) float64 { return spans[*p].Seconds() }))
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

// NoteLeaving notes that messages are about to go. What is older than their span is forgotten.
func (s *Store) NoteLeaving(ctx context.Context, leaving []Leaving) ([]Noted, error) {
	var all []Noted
	for where, some := range divided(leaving, func(l *Leaving) Paced { return l.Paced }) {
		type stamps struct {
			of Paced
			at []time.Time
		}
		noted, err := query(ctx, s.hot(), func(rows pgx.Rows) (n stamps, err error) {
			n.of, err = where.scan(rows, &n.at)
			return n, err
		}, fmt.Sprintf(`WITH leaving AS MATERIALIZED (
				SELECT of, span, nr, now.at + make_interval(secs => later) AS at
				FROM unnest($1::%[3]s[], $2::float8[], $3::float8[]) WITH ORDINALITY AS n (of, span, later, nr),
					(SELECT clock_timestamp() AS at OFFSET 0) AS now)
			UPDATE %[1]s p SET recent = ARRAY(SELECT at FROM unnest(recent) AS at
				WHERE at > clock_timestamp() - make_interval(secs => fresh.span) ORDER BY at) || fresh.at
			FROM (SELECT of, max(span) AS span, array_agg(at ORDER BY nr) AS at FROM leaving GROUP BY of) AS fresh
			WHERE p.%[2]s = fresh.of RETURNING p.%[2]s, fresh.at`, where.table, where.column, where.kind),
			where.names(column(some, func(l *Leaving) Paced { return l.Paced })),
			column(some, func(l *Leaving) float64 { return l.Span.Seconds() }),
			column(some, func(l *Leaving) float64 { return l.Within.Seconds() }))
		if err != nil {
			return nil, fmt.Errorf("pacing: %w", err)
		}
		for _, n := range noted {
			for _, l := range some {
				if l.Paced == n.of && len(n.at) > 0 {
					all, n.at = append(all, Noted{Paced: l.Paced, Message: l.Message, At: n.at[0]}), n.at[1:]
				}
			}
		}
	}
	return all, nil
}

// NoteGone notes by when messages had arrived, or surely will not, that were noted as about to go.
func (s *Store) NoteGone(ctx context.Context, noted []Noted) error {
	by := map[Paced][]Noted{}
	for _, n := range noted {
		by[n.Paced] = append(by[n.Paced], n)
	}
	var b pgx.Batch
	for of, some := range by {
		where, name := &senderPacing, any(of.Name)
		if of.Batch != uuid.Nil {
			where, name = &batchPacing, any(of.Batch)
		}
		// Several may have been noted for the same moment: of each, only as many give way as have gone.
		b.Queue(fmt.Sprintf(`UPDATE %[1]s SET recent = ARRAY(SELECT unnest(recent) EXCEPT ALL SELECT unnest($2::timestamptz[]))
				|| ARRAY(SELECT clock_timestamp() - make_interval(secs => n.ago) FROM unnest($2::timestamptz[], $3::float8[]) AS n (at, ago))
			WHERE %[2]s = $1::%[3]s`, where.table, where.column, where.kind), name,
			column(some, func(n *Noted) time.Time { return n.At }), column(some, func(n *Noted) float64 { return n.Ago.Seconds() }))
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
	Stop  batch.Stop // what holds it back
}

// Goes reports whether messages of the batch go: what was let out within a budget is paid for,
// and goes though no more is let out.
func (b BatchNow) Goes() bool {
	return b.State != batch.Paused && (b.State != batch.Held || b.Stop == batch.ByBudget || b.Stop == batch.ByDay)
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
		err = rows.Scan(&first, &b.State, &b.Why, &b.Pace.N, &ms, &b.Stop)
		b.Pace.Per = time.Duration(ms) * time.Millisecond
		batches[first] = b
		return first, err
	}, "SELECT first, state, why, pace_n, pace_ms, coalesce(launch->>'stopped', '') FROM batches WHERE first = ANY($1)", firsts)
	if err != nil {
		return nil, fmt.Errorf("reading batches: %w", err)
	}
	return batches, nil
}

// Never is when a message is due that is held back.
func Never() time.Time { return never }
