package store

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Outcome is what became of telling a receiver of an event.
type Outcome string

// What there is.
const (
	Waits  Outcome = "waiting" // it is to be told, or told again
	IsTold Outcome = "told"
	Parked Outcome = "parked" // it was tried for a day, or the receiver wants no more
)

// Outcomes lists them.
var Outcomes = []Outcome{Waits, IsTold, Parked}

// Telling is that a receiver is told of an event.
type Telling struct {
	EventID    uuid.UUID
	ReceiverID uuid.UUID
	Seq        int64
	Subject    uuid.UUID
	Outcome    Outcome
	Since      time.Time  // it was to be told
	DueAt      *time.Time // it is told again
	At         *time.Time // of the last try
	Tries      int
	Status     int // of the last answer; 0: there was none
	Took       time.Duration
	Error      string
	Answer     string // how the answer began, where it was none that takes it
	// Before is the one about the same subject that has to be told just before, and BeforeDue when it is due; 0: there is
	// none.
	Before    int64
	BeforeDue time.Time
}

// ToTell are events that a receiver is to be told by now, other than those that are in hand: the oldest first, at
// most so many.
func (s *Store) ToTell(ctx context.Context, receiver uuid.UUID, now time.Time, inHand []int64, most int) ([]Telling, error) {
	due, err := query(ctx, s.hot(), func(rows pgx.Rows) (t Telling, err error) {
		var before *int64
		var beforeDue *time.Time
		t.ReceiverID, t.Outcome = receiver, Waits
		err = rows.Scan(&t.Seq, &t.EventID, &t.Subject, &t.Tries, &t.Since, &t.DueAt, &before, &beforeDue)
		if before != nil {
			t.Before, t.BeforeDue = *before, *beforeDue
		}
		return t, err
	}, `SELECT t.seq, t.event_id, t.subject, t.tries, t.since, t.due_at, before.seq, before.due_at FROM to_tell t
		LEFT JOIN LATERAL (SELECT b.seq, b.due_at FROM to_tell b WHERE b.subject = t.subject AND b.receiver_id = t.receiver_id
			AND b.seq < t.seq ORDER BY b.seq DESC LIMIT 1) AS before ON true
		WHERE t.receiver_id = $1 AND t.due_at <= $2 AND t.seq <> ALL($3) ORDER BY t.due_at, t.seq LIMIT $4`,
		receiver, now, nonNil(inHand), most)
	if err != nil {
		return nil, fmt.Errorf("reading what is to be told: %w", err)
	}
	return due, nil
}

// Tell records what became of telling: those told or parked are done; others are told again when they are due. What
// somebody wanted to be told again meanwhile stays.
func (s *Store) Tell(ctx context.Context, set []Telling) error {
	var done, again []Telling
	for _, t := range set {
		if t.Outcome == Waits {
			again = append(again, t)
		} else {
			done = append(done, t)
		}
	}
	var b pgx.Batch
	if len(done) > 0 {
		slices.SortFunc(done, func(x, y Telling) int { return cmp.Compare(x.Seq, y.Seq) })
		b.Queue(`DELETE FROM to_tell t USING unnest($1::uuid[], $2::bigint[], $3::timestamptz[]) AS n (receiver, seq, since)
			WHERE t.receiver_id = n.receiver AND t.seq = n.seq AND t.since = n.since`,
			ids(done, func(t *Telling) uuid.UUID { return t.ReceiverID }), column(done, func(t *Telling) int64 { return t.Seq }),
			column(done, func(t *Telling) time.Time { return t.Since }))
	}
	for m, some := range byMonth(s, done, func(t *Telling) uuid.UUID { return t.EventID }) {
		word := func(of func(*Telling) string) []string {
			return words(some, func(t *Telling) string { return Keepable(of(t)) })
		}
		b.Queue(m.in(`INSERT INTO tellings_%M (event_id, receiver_id, outcome, at, tries, status, took_us, error, answer)
			SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::text[], $4::timestamptz[], $5::int[], $6::int[], $7::int[], $8::text[], $9::text[])
			ON CONFLICT (event_id, receiver_id) DO UPDATE SET outcome = excluded.outcome, at = excluded.at, tries = excluded.tries,
				status = excluded.status, took_us = excluded.took_us, error = excluded.error, answer = excluded.answer`),
			ids(some, func(t *Telling) uuid.UUID { return t.EventID }), ids(some, func(t *Telling) uuid.UUID { return t.ReceiverID }),
			words(some, func(t *Telling) Outcome { return t.Outcome }), column(some, func(t *Telling) *time.Time { return t.At }),
			numbers(some, func(t *Telling) int { return t.Tries }), numbers(some, func(t *Telling) int { return t.Status }),
			numbers(some, func(t *Telling) int { return int(t.Took.Microseconds()) }),
			word(func(t *Telling) string { return t.Error }), word(func(t *Telling) string { return t.Answer }))
	}
	if len(again) > 0 {
		slices.SortFunc(again, func(x, y Telling) int { return cmp.Compare(x.Seq, y.Seq) })
		word := func(of func(*Telling) string) []string {
			return words(again, func(t *Telling) string { return Keepable(of(t)) })
		}
		b.Queue(`UPDATE to_tell t SET due_at = n.due_at, tries = n.tries, tried_at = coalesce(n.tried_at, t.tried_at), status = n.status,
				error = n.error, answer = n.answer
			FROM unnest($1::uuid[], $2::bigint[], $3::timestamptz[], $4::int[], $5::timestamptz[], $6::int[], $7::text[], $8::text[],
				$9::timestamptz[]) AS n (receiver, seq, due_at, tries, tried_at, status, error, answer, since)
			WHERE t.receiver_id = n.receiver AND t.seq = n.seq AND t.since = n.since`,
			ids(again, func(t *Telling) uuid.UUID { return t.ReceiverID }), column(again, func(t *Telling) int64 { return t.Seq }),
			column(again, func(t *Telling) *time.Time { return t.DueAt }), numbers(again, func(t *Telling) int { return t.Tries }),
			column(again, func(t *Telling) *time.Time { return t.At }), numbers(again, func(t *Telling) int { return t.Status }),
			word(func(t *Telling) string { return t.Error }), word(func(t *Telling) string { return t.Answer }),
			column(again, func(t *Telling) time.Time { return t.Since }))
	}
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("recording who was told of %d events: %w", len(set), err)
	}
	return nil
}

// parkAtOnce is how many are parked in one transaction.
const parkAtOnce = 5000

// Park parks what a receiver is to be told since before a moment, for a reason.
func (s *Store) Park(ctx context.Context, receiver uuid.UUID, before, now time.Time, why string) (parked int, err error) {
	for {
		some, err := query(ctx, s.hot(), func(rows pgx.Rows) (t Telling, err error) {
			t.ReceiverID, t.Outcome, t.At, t.Error = receiver, Parked, &now, why
			err = rows.Scan(&t.Seq, &t.EventID, &t.Tries, &t.Status, &t.Since)
			return t, err
		}, `SELECT seq, event_id, tries, status, since FROM to_tell WHERE receiver_id = $1 AND since < $2 LIMIT $3`, receiver, before, parkAtOnce)
		if err != nil || len(some) == 0 {
			return parked, err
		}
		if err := s.Tell(ctx, some); err != nil {
			return parked, err
		}
		parked += len(some)
	}
}

// Retell lets a receiver be told again, or for the first time, of events: those with these ids, or of a choice. It
// returns of how many, and where to go on; nobody need be told more than a portion at a time. try counts alone.
func (s *Store) Retell(ctx context.Context, receiver Receiver, now time.Time, f EventFilter, after uuid.UUID, try bool) (
	n int, last uuid.UUID, err error) {
	where, args := f.where(after)
	args = append(args, receiver.ID, nonNil(receiver.Types), fromWords(receiver.Kinds), string(receiver.Labels), now)
	at := func(back int) string { return fmt.Sprintf("$%d", len(args)-back) }
	sql := `WITH chosen AS MATERIALIZED (SELECT e.id, e.seq, e.subject FROM events e LEFT JOIN cuts c ON c.id = e.cut_id WHERE ` + where + `
			AND (` + at(3) + `::text[] = '{}' OR e.type = ANY(` + at(3) + `) OR split_part(e.type, '.', 1) || '.*' = ANY(` + at(3) + `))
			AND (` + at(2) + `::text[] = '{}' OR e.kind = ANY(` + at(2) + `))
			AND (` + at(1) + ` = '' OR string_to_array(` + at(1) + `, ',') <@ string_to_array(coalesce(c.labels, e.labels), ','))`
	if receiver.Reports == ReportsOnly {
		sql += ` AND e.report_via = ` + at(4)
	}
	sql += ` ORDER BY e.id LIMIT ` + fmt.Sprint(parkAtOnce) + `)`
	if !try {
		sql += `, put AS (INSERT INTO to_tell (receiver_id, seq, event_id, subject, due_at, since)
			SELECT ` + at(4) + `, seq, id, subject, ` + at(0) + `, ` + at(0) + ` FROM chosen ORDER BY seq
			ON CONFLICT (receiver_id, seq) DO UPDATE SET due_at = excluded.due_at, since = excluded.since)`
	}
	sql += ` SELECT count(*)::int, max(id::text)::uuid FROM chosen
		WHERE ` + at(0) + `::timestamptz IS NOT NULL AND ` + at(4) + `::uuid IS NOT NULL` // they have a type, used or not
	found, err := query(ctx, s.reading(), func(rows pgx.Rows) (one struct{}, err error) {
		var id *uuid.UUID
		err = rows.Scan(&n, &id)
		if id != nil && n == parkAtOnce {
			last = *id
		}
		return one, err
	}, sql, args...)
	if err != nil || len(found) == 0 {
		return n, last, fmt.Errorf("choosing events to be told again: %w", err)
	}
	return n, last, nil
}

// EventFilter chooses events. Zero fields choose all.
type EventFilter struct {
	IDs          []uuid.UUID
	Types        []string // also message.*
	Subject      uuid.UUID
	Receiver     uuid.UUID // that was told of it, or is to be
	Outcome      Outcome   // what became of that
	Since, Until time.Time
}

// where is the choice as SQL of events e, the newest first from the one after a cursor; for the oldest first it is a floor.
func (f EventFilter) where(after uuid.UUID) (string, []any) {
	sql, args := "true", []any{}
	add := func(condition string, v any) {
		args = append(args, v)
		sql += fmt.Sprintf(" AND "+condition, len(args))
	}
	if f.IDs != nil {
		add("e.id = ANY($%d)", uuids(f.IDs))
	}
	if f.Subject != uuid.Nil {
		add("e.subject = $%d", f.Subject)
	}
	if len(f.Types) > 0 {
		add("(e.type = ANY($%[1]d) OR split_part(e.type, '.', 1) || '.*' = ANY($%[1]d))", f.Types)
	}
	if !f.Since.IsZero() {
		add("e.id >= $%d", Floor(f.Since))
	}
	if !f.Until.IsZero() {
		add("e.id < $%d", Floor(f.Until))
	}
	if after != uuid.Nil {
		add("e.id > $%d", after)
	}
	switch {
	case f.Outcome == Waits && f.Receiver == uuid.Nil:
		sql += " AND EXISTS (SELECT FROM to_tell t WHERE t.subject = e.subject AND t.event_id = e.id)"
	case f.Outcome == Waits:
		add("EXISTS (SELECT FROM to_tell t WHERE t.receiver_id = $%d AND t.seq = e.seq)", f.Receiver)
	case f.Outcome != "" && f.Receiver == uuid.Nil:
		add("EXISTS (SELECT FROM tellings t WHERE t.event_id = e.id AND t.outcome = $%d)", string(f.Outcome))
	case f.Outcome != "":
		add("EXISTS (SELECT FROM tellings t WHERE t.event_id = e.id AND t.outcome = $%d", string(f.Outcome))
		add("t.receiver_id = $%d)", f.Receiver)
	case f.Receiver != uuid.Nil:
		add("(EXISTS (SELECT FROM tellings t WHERE t.event_id = e.id AND t.receiver_id = $%d)", f.Receiver)
		sql += fmt.Sprintf(" OR EXISTS (SELECT FROM to_tell t WHERE t.receiver_id = $%d AND t.seq = e.seq))", len(args))
	}
	return sql, args
}

// FindEvents lists events, the newest first, before a cursor (nil: from the newest on).
func (s *Store) FindEvents(ctx context.Context, f EventFilter, before uuid.UUID, most int) ([]Event, error) {
	where, args := f.where(uuid.Nil)
	if before != uuid.Nil {
		args = append(args, before)
		where += fmt.Sprintf(" AND e.id < $%d", len(args))
	}
	args = append(args, most)
	found, err := query(ctx, s.reading(), scanEvent, "SELECT "+eventColumns+" FROM events e LEFT JOIN cuts c ON c.id = e.cut_id WHERE "+
		where+fmt.Sprintf(" ORDER BY e.id DESC LIMIT $%d", len(args)), args...)
	if err != nil {
		return nil, fmt.Errorf("reading events: %w", err)
	}
	return found, nil
}

// Tellings are who was told of events, and who is to be, in the order of receivers.
func (s *Store) Tellings(ctx context.Context, events []Event) (map[uuid.UUID][]Telling, error) {
	found := map[uuid.UUID][]Telling{}
	seen := map[[2]uuid.UUID]bool{}
	add := func(all []Telling) {
		for _, t := range all {
			if at := [2]uuid.UUID{t.EventID, t.ReceiverID}; !seen[at] {
				seen[at] = true
				found[t.EventID] = append(found[t.EventID], t)
			}
		}
	}
	waiting, err := query(ctx, s.reading(), func(rows pgx.Rows) (t Telling, err error) {
		t.Outcome = Waits
		err = rows.Scan(&t.EventID, &t.ReceiverID, &t.Seq, &t.DueAt, &t.Since, &t.Tries, &t.At, &t.Status, &t.Error, &t.Answer)
		return t, err
	}, `SELECT t.event_id, t.receiver_id, t.seq, t.due_at, t.since, t.tries, t.tried_at, t.status, t.error, t.answer
		FROM unnest($1::uuid[], $2::bigint[]) AS n (subject, seq) JOIN to_tell t ON t.subject = n.subject AND t.seq = n.seq
		ORDER BY t.receiver_id`, ids(events, func(e *Event) uuid.UUID { return e.Subject }),
		column(events, func(e *Event) int64 { return e.Seq }))
	if err != nil {
		return nil, fmt.Errorf("reading who is to be told: %w", err)
	}
	add(waiting) // one that is told again was told before
	for m, some := range byMonth(s, events, func(e *Event) uuid.UUID { return e.ID }) {
		done, err := query(ctx, s.reading(), func(rows pgx.Rows) (t Telling, err error) {
			var us int64
			err = rows.Scan(&t.EventID, &t.ReceiverID, &t.Outcome, &t.At, &t.Tries, &t.Status, &us, &t.Error, &t.Answer)
			t.Took = time.Duration(us) * time.Microsecond
			return t, err
		}, m.in(`SELECT event_id, receiver_id, outcome, at, tries, status, took_us, error, answer FROM tellings_%M
			WHERE event_id = ANY($1) ORDER BY receiver_id`), ids(some, func(e *Event) uuid.UUID { return e.ID }))
		if err != nil {
			return nil, fmt.Errorf("reading who was told: %w", err)
		}
		add(done)
	}
	return found, nil
}
