package store

import (
	"context"
	"database/sql/driver"
	"errors"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	"gorm.io/gorm"
)

// transaction is one transaction. A round trip to the database costs more than
// most of what is asked of it, so its beginning goes with the first statement,
// and what is written goes with the next that has to be read, or with the end.
type transaction struct {
	conn   *pgx.Conn
	db     *gorm.DB // over the same connection
	begun  bool
	writes pgx.Batch
	// after is run once it is committed.
	after []func()
	// careful locks what is read and will be written. Most often nobody else
	// writes it meanwhile, and to find out while writing is cheaper.
	careful bool
}

// Transact runs do in one transaction: all of it is committed, or nothing.
// Within a transaction it is part of that.
//
// Where somebody else wrote meanwhile what do has read, nothing is committed and
// do runs again, so it has to begin from nothing each time it is called. The
// second time whatever it reads in order to write it is locked.
//
// A connection may break after COMMIT was sent and before its answer came. Transact
// then looks the outcome up: it returns nil if the transaction is committed, and runs do
// again if it is not. Where the database cannot be asked within
// [outcomeWithin] the error is an [*UnknownOutcome]. Once COMMIT is sent the end of ctx
// does not interrupt it.
func (s *Store) Transact(ctx context.Context, do func(*Store) error) error {
	if s.tx != nil {
		return do(s)
	}
	for try := 1; ; try++ {
		err := s.transact(ctx, try > 1, do)
		if unknown := (*UnknownOutcome)(nil); errors.As(err, &unknown) {
			go s.settle(unknown)
			soon, cancel := context.WithTimeout(context.WithoutCancel(ctx), outcomeWithin)
			committed, err := unknown.Wait(soon)
			cancel()
			switch {
			case errors.Is(err, ErrRewound):
				return err
			case err != nil:
				return unknown
			case committed:
				return nil
			}
			if try == triesMost || ctx.Err() != nil {
				return unknown.Cause
			}
			continue
		}
		if !overtaken(err) || try == triesMost {
			return err
		}
	}
}

// triesMost bounds how often a transaction is run that others overtake. The
// second run can only be ended by a deadlock.
const triesMost = 5

// Codes of PostgreSQL for what another transaction did meanwhile.
const (
	serializationFailure = "40001"
	deadlockDetected     = "40P01"
)

// errOvertaken means that another transaction wrote meanwhile what this one has read. It is
// found here and not raised by the server: it is expected, and would fill the server's log.
var errOvertaken = errors.New("the records are not as they were read")

// allWritten is for a statement that returns one row where it wrote all that it should.
func allWritten(tag pgconn.CommandTag) error {
	if tag.RowsAffected() == 0 {
		return errOvertaken
	}
	return nil
}

// overtaken reports whether a transaction failed for what another did meanwhile.
func overtaken(err error) bool {
	var pg *pgconn.PgError
	return errors.Is(err, errOvertaken) || errors.As(err, &pg) && (pg.Code == serializationFailure || pg.Code == deadlockDetected)
}

// locking is appended to a statement whose rows are going to be written in this
// transaction.
func (s *Store) locking(how string) string {
	if s.tx == nil || !s.tx.careful {
		return ""
	}
	return how
}

func (s *Store) transact(ctx context.Context, careful bool, do func(*Store) error) (err error) {
	pool, err := s.begin.DB()
	if err != nil {
		return err
	}
	one, err := pool.Conn(ctx)
	if err != nil {
		return err
	}
	defer one.Close()
	t := &transaction{careful: careful, db: s.begin.Session(&gorm.Session{NewDB: true, Context: context.WithoutCancel(ctx)})}
	t.db.Statement.ConnPool = one
	if err := one.Raw(func(c any) error { t.conn = c.(*stdlib.Conn).Conn(); return nil }); err != nil {
		return err
	}
	committed := false
	defer func() {
		if committed || !t.begun {
			return
		}
		last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer cancel()
		// A connection that broke was taken away meanwhile, and is another's to look at.
		one.Raw(func(any) error {
			if _, wrong := t.conn.Exec(last, "ROLLBACK"); wrong != nil {
				return driver.ErrBadConn // nobody else gets it
			}
			return nil
		})
	}()
	if err := do(&Store{common: s.common, tx: t}); err != nil {
		return err
	}
	if !t.begun && t.writes.Len() == 0 {
		return nil
	}
	committed, err = s.commit(ctx, t)
	return err
}

// afterCommit runs do once what the store has written is committed: at once outside of a
// transaction. Use it for everything that other transactions can see, such as a cache that
// all share.
func (s *Store) afterCommit(do func()) {
	if s.tx == nil {
		do()
		return
	}
	s.tx.after = append(s.tx.after, do)
}

// commit ends a transaction, with the next mark of a slot. Committed is true where
// nothing is to be rolled back.
func (s *Store) commit(ctx context.Context, t *transaction) (committed bool, err error) {
	var slot *commitSlot
	select {
	case slot = <-s.slots.free:
	case <-ctx.Done():
		return false, ctx.Err()
	}
	b, _ := t.pending()
	checked := slices.ContainsFunc(b.QueuedQueries, hasCheck)
	marked := false
	next := slot.mark + 1
	b.Queue(addMark, s.slots.instance(), slot.number, next).Exec(func(tag pgconn.CommandTag) error {
		marked = tag.RowsAffected() > 0
		return nil
	})
	if next%removeEvery == 0 {
		b.Queue(removeMarks, s.slots.instance(), slot.number, next)
	}
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), commitWithin)
	defer cancel()
	if checked { // COMMIT may go only when the answers to the checks are known
		err = t.conn.SendBatch(last, b).Close()
		b = &pgx.Batch{}
	}
	if err == nil {
		b.Queue("COMMIT")
		err = t.conn.SendBatch(last, b).Close()
	}
	if err == nil {
		if marked {
			s.slots.rise(slot)
		}
		s.slots.free <- slot
		for _, do := range t.after {
			do()
		}
		return true, nil
	}
	var refused *pgconn.PgError
	if errors.Is(err, errOvertaken) || errors.As(err, &refused) && !endsSession(refused) || pgconn.SafeToRetry(err) {
		s.slots.free <- slot
		return false, s.missed(err)
	}
	return true, &UnknownOutcome{Cause: err, slot: slot, after: t.after, known: make(chan struct{})}
}

// pending is what has to be sent before the next statement, and how many results
// come before that one's.
func (t *transaction) pending() (*pgx.Batch, int) {
	b := &pgx.Batch{}
	if !t.begun {
		b.Queue("BEGIN")
		t.begun = true
	}
	b.QueuedQueries = append(b.QueuedQueries, t.writes.QueuedQueries...)
	t.writes = pgx.Batch{}
	return b, b.Len()
}

// hasCheck reports whether the answer to a statement decides whether the transaction may commit.
func hasCheck(q *pgx.QueuedQuery) bool { return q.Fn != nil }

// flush sends what is pending.
func (t *transaction) flush(ctx context.Context) error {
	b, n := t.pending()
	if n == 0 {
		return nil
	}
	return t.conn.SendBatch(ctx, b).Close()
}

// Query runs a statement whose rows are read.
func (t *transaction) Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error) {
	b, before := t.pending()
	if before == 0 {
		return t.conn.Query(ctx, sql, args...)
	}
	b.Queue(sql, args...)
	results := t.conn.SendBatch(ctx, b)
	for _, q := range b.QueuedQueries[:before] {
		var err error
		if hasCheck(q) {
			err = q.Fn(results)
		} else {
			_, err = results.Exec()
		}
		if err != nil {
			results.Close()
			return nil, err
		}
	}
	rows, err := results.Query()
	if err != nil {
		results.Close()
		return nil, err
	}
	return &lastRows{rows, results}, nil
}

// lastRows are the rows of the last statement of a batch.
type lastRows struct {
	pgx.Rows
	batch pgx.BatchResults
}

// Close ends the batch too.
func (r *lastRows) Close() {
	r.Rows.Close()
	r.batch.Close()
}
