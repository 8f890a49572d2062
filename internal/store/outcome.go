package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// A connection can break after COMMIT was sent and before its answer came. So that
// the outcome can be looked up, each transaction that writes adds the next mark of a
// slot to commit_marks; see the migration.

const (
	// addMark adds the next mark of a slot. A transaction that wrote nothing adds none. Where
	// the mark before is missing it fails: its own becomes null. The function add_commit_mark, which
	// older instances call, takes three times as long.
	addMark = `INSERT INTO commit_marks (instance_id, slot, mark) SELECT $1, $2, CASE WHEN EXISTS
		(SELECT FROM commit_marks WHERE instance_id = $1 AND slot = $2 AND mark = $3 - 1) THEN $3::bigint END
		WHERE pg_current_xact_id_if_assigned() IS NOT NULL`
	// removeMarks removes the marks of a slot before the last one. The transaction of every 256th
	// mark does so; where it fails, the next one still reaches its marks.
	removeMarks = `DELETE FROM commit_marks WHERE instance_id = $1 AND slot = $2 AND mark BETWEEN $3 - 600 AND $3 - 2`
	removeEvery = 256
	// slotsOf is how many transactions of an instance may be about to commit, those
	// included whose outcome is being looked up.
	slotsOf = 16
	// commitWithin is how long the answer to COMMIT is waited for: longer than the
	// server takes to give a statement up.
	commitWithin = statementWithin + 5*time.Second
	// outcomeWithin is how long Transact asks what became of a transaction.
	outcomeWithin = 5 * time.Second
)

// ErrRewound means that the database lacks what this instance has committed: it was
// restored, or is another one.
var ErrRewound = errors.New("the database is not as this instance left it")

// slots are the slots of this instance.
type slots struct {
	id      atomic.Pointer[uuid.UUID] // of this instance
	free    chan *commitSlot
	marks   [slotsOf]atomic.Int64 // the last that is known to be committed
	rewound atomic.Bool
	home    atomic.Pointer[place] // where connections lead
	moved   atomic.Bool
	keep    atomic.Pointer[MarkKeeper]
}

// commitSlot is a slot and the last mark of it that is committed. It belongs to one
// transaction at a time.
type commitSlot struct {
	number int
	mark   int64
}

// MarkKeeper remembers marks outside of the database.
type MarkKeeper interface {
	// Keep notes the last committed mark of a slot.
	Keep(slot int, mark int64)
}

// KeepMarks lets a keeper remember the marks of this instance from now on.
func (s *Store) KeepMarks(k MarkKeeper) {
	s.slots.keep.Store(&k)
	for i := range s.slots.marks {
		k.Keep(i, s.slots.marks[i].Load())
	}
}

func (l *slots) instance() uuid.UUID { return *l.id.Load() }

// rename makes this process another instance.
func (l *slots) rename() {
	id := NewID()
	l.id.Store(&id)
}

func (l *slots) rise(slot *commitSlot) {
	slot.mark++
	l.marks[slot.number].Store(slot.mark)
	if keep := l.keep.Load(); keep != nil {
		(*keep).Keep(slot.number, slot.mark)
	}
}

// Instance is the id of this process in the database.
func (s *Store) Instance() uuid.UUID { return s.slots.instance() }

// Rewound reports whether a transaction found that the database lacks what this
// instance has committed.
func (s *Store) Rewound() bool { return s.slots.rewound.Load() }

// enrol adds this process to the instances, with the first mark of each slot.
func (s *Store) enrol(ctx context.Context) error {
	l := &s.slots
	l.rename()
	if err := s.addInstance(ctx); err != nil {
		return err
	}
	l.free = make(chan *commitSlot, slotsOf)
	for n := range slotsOf {
		l.free <- &commitSlot{number: n}
	}
	return nil
}

func (s *Store) addInstance(ctx context.Context) error {
	host, _ := os.Hostname()
	_, err := s.work.Exec(ctx, `WITH instance AS (INSERT INTO instances (id, name, started_at, seen_at)
			VALUES ($1, $2, clock_timestamp(), clock_timestamp()))
		INSERT INTO commit_marks (instance_id, slot, mark) SELECT $1, n, 0 FROM generate_series(0, $3::int - 1) AS n`,
		s.slots.instance(), fmt.Sprintf("%s/%d", host, os.Getpid()), slotsOf)
	if err != nil {
		return fmt.Errorf("adding this instance: %w", err)
	}
	return nil
}

// endsSession reports whether an error of the server ends the connection, so that it
// may have come from outside of the transaction (PostgreSQL's manual, appendix A).
func endsSession(e *pgconn.PgError) bool {
	return e.Severity == "FATAL" || e.Severity == "PANIC"
}

// missed notes that a mark is missing.
func (s *Store) missed(err error) error {
	if refused := (*pgconn.PgError)(nil); errors.As(err, &refused) && refused.TableName == "commit_marks" && refused.ColumnName == "mark" {
		s.slots.rewound.Store(true)
		return fmt.Errorf("%w: %v", ErrRewound, err) // no data is at fault, as the code of the error would say
	}
	return err
}

// UnknownOutcome is the error of a transaction that may be committed or not: the
// connection broke between, and the database could not be asked yet. It goes on being
// asked until it answers; [UnknownOutcome.Wait] tells.
type UnknownOutcome struct {
	Cause     error
	slot      *commitSlot
	after     []func()
	known     chan struct{} // closed once it is known
	committed bool
	err       error
}

// Error says that the outcome is not known.
func (u *UnknownOutcome) Error() string {
	return "the connection to the database broke during COMMIT; whether it is committed is not known yet: " + u.Cause.Error()
}

// Unwrap is what broke.
func (u *UnknownOutcome) Unwrap() error { return u.Cause }

// Wait waits until it is known whether the transaction is committed. If it is not, it
// cannot be any more. The error is that of ctx, or [ErrRewound].
func (u *UnknownOutcome) Wait(ctx context.Context) (committed bool, err error) {
	select {
	case <-u.known:
		return u.committed, u.err
	case <-ctx.Done():
		return false, ctx.Err()
	}
}

// settle asks until the database answers whether a transaction is committed, and frees
// its slot.
func (s *Store) settle(u *UnknownOutcome) {
	defer close(u.known)
	for wait := 10 * time.Millisecond; ; wait = min(2*wait, time.Second) {
		u.committed, u.err = s.askOutcome(u.slot)
		if u.err == nil || errors.Is(u.err, ErrRewound) {
			break
		}
		select {
		case <-s.closed:
			u.err = context.Canceled
			return
		case <-time.After(wait):
		}
	}
	s.slots.rise(u.slot)
	s.slots.free <- u.slot
	if u.committed {
		for _, do := range u.after {
			do()
		}
	}
}

// askOutcome asks once whether the transaction is committed that was to add the next mark
// of a slot. If it was not, its mark is taken by a fence, and it cannot commit any more.
func (s *Store) askOutcome(slot *commitSlot) (committed bool, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), commitWithin)
	defer cancel()
	// A transaction that has added its mark and has not ended holds this up until it does.
	if _, err = s.work.Exec(ctx, `INSERT INTO commit_marks (instance_id, slot, mark, fence) VALUES ($1, $2, $3, true)
		ON CONFLICT DO NOTHING`, s.slots.instance(), slot.number, slot.mark+1); err != nil {
		return false, err
	}
	var fence bool
	err = s.work.QueryRow(ctx, "SELECT fence FROM commit_marks WHERE instance_id = $1 AND slot = $2 AND mark = $3",
		s.slots.instance(), slot.number, slot.mark+1).Scan(&fence)
	if errors.Is(err, pgx.ErrNoRows) {
		s.slots.rewound.Store(true)
		return false, ErrRewound
	}
	return err == nil && !fence, err
}
