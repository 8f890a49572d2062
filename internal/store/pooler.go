package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Errors of a connection pooler that the service cannot work behind.
var (
	ErrSharedSessions = errors.New("the connection pooler shares one session of PostgreSQL among several connections. " +
		"Calm Pigeon needs a session for each of its connections: set pool_mode = session for this database, " +
		"or connect to PostgreSQL directly")
	ErrFewSessions = errors.New("the connection pooler gives too few sessions")
)

const (
	// sessionsOf is how many connections an instance may have open.
	sessionsOf = workMost + readMost + leasesMost
	// sessionsWithin is how long a pooler may take to open all of them.
	sessionsWithin = 5 * time.Second
	// sharedTries is how often it is tried whether two connections get the same session. A pooler
	// gives out the session that it got back last, so the first try tells, unless others come between.
	sharedTries = 20
)

// checkPooler looks for a connection pooler between here and PostgreSQL, and returns
// [ErrSharedSessions] or [ErrFewSessions] if the service cannot work behind it. Settings, prepared
// statements and advisory locks belong to a session, so each connection needs its own. Call it
// before anything is locked: a lock that another connection gets hold of is never released.
func checkPooler(ctx context.Context, config *pgx.ConnConfig) error {
	config = config.Copy()
	config.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol
	ctx, cancel := context.WithTimeout(ctx, connectWithin+sessionsWithin)
	defer cancel()
	var conns []*pgx.Conn
	defer func() {
		for _, c := range conns {
			c.Close(ctx)
		}
	}()
	connect := func() (*pgx.Conn, error) {
		c, err := pgx.ConnectConfig(ctx, config)
		if err == nil {
			conns = append(conns, c)
		}
		return c, err
	}
	first, err := connect()
	if err != nil {
		return err
	}
	own, err := serverProcess(ctx, first)
	if err != nil || own == first.PgConn().PID() { // the server itself answers
		return err
	}
	second, err := connect()
	if err != nil {
		return err
	}
	for range sharedTries {
		if err := sharesSession(ctx, first, second, own); err != nil {
			return tooFew(err, 1)
		}
	}
	soon, cancelSoon := context.WithTimeout(ctx, sessionsWithin)
	defer cancelSoon()
	for n := len(conns); n < sessionsOf; n++ {
		c, err := pgx.ConnectConfig(soon, config)
		if err == nil {
			conns = append(conns, c)
			_, err = serverProcess(soon, c)
		}
		if err != nil {
			return tooFew(err, n)
		}
	}
	return nil
}

// tooFew says that a pooler gave n sessions and no more, unless err says something else.
func tooFew(err error, n int) error {
	if errors.Is(err, ErrSharedSessions) {
		return err
	}
	return fmt.Errorf("%w: %d of the %d that an instance needs (%w). Raise default_pool_size, or pool_size of this database, "+
		"to at least %d for each instance, or connect to PostgreSQL directly", ErrFewSessions, n, sessionsOf, err, sessionsOf)
}

// serverProcess is the process of the server that answers a connection.
func serverProcess(ctx context.Context, c *pgx.Conn) (pid uint32, err error) {
	err = c.QueryRow(ctx, "SELECT pg_backend_pid()").Scan(&pid)
	return pid, err
}

// sharesSession tries once whether the second connection is answered by the first one's session, or
// the first one by another than before. It returns [ErrSharedSessions] if so.
func sharesSession(ctx context.Context, first, second *pgx.Conn, own uint32) error {
	if _, err := second.Exec(ctx, "BEGIN"); err != nil {
		if refused := (*pgconn.PgError)(nil); errors.As(err, &refused) { // it shares them statement by statement
			return fmt.Errorf("%w (%s)", ErrSharedSessions, refused.Message)
		}
		return err
	}
	other, err := serverProcess(ctx, second)
	if err != nil {
		return err
	}
	again := own
	if other != own { // with the only session taken, the first connection would wait
		if again, err = serverProcess(ctx, first); err != nil {
			return err
		}
	}
	if _, err := second.Exec(ctx, "ROLLBACK"); err != nil {
		return err
	}
	if other == own || again != own {
		return ErrSharedSessions
	}
	return nil
}
