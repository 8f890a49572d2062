package store

import (
	"errors"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/postgres/pgtest"
)

// Behind a pooler that gives each connection a session everything works as without it. One that shares
// sessions is refused before anything is locked, and so is one that gives too few.
func TestPoolers(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, mode string
		sessions   int
		want       error
		says       string
	}{
		{"a session for each connection", "session", sessionsOf, nil, ""},
		{"a session for each transaction", "transaction", 40, ErrSharedSessions, "pool_mode = session"},
		{"one session for each transaction", "transaction", 1, ErrSharedSessions, "pool_mode = session"},
		{"a session for each statement", "statement", 40, ErrSharedSessions, "pool_mode = session"},
		{"too few sessions", "session", 20, ErrFewSessions, "20 of the 27"},
		{"one session", "session", 1, ErrFewSessions, "1 of the 27"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			direct := pgtest.Database(t)
			s, err := Open(t.Context(), pgtest.Pooler(t, direct, c.mode, c.sessions), time.Now())
			if !errors.Is(err, c.want) || err != nil && !strings.Contains(err.Error(), c.says) {
				t.Fatalf("got %v, want %v", err, c.want)
			}
			if err != nil {
				// The attempt left nothing behind: the next instance starts.
				if s, err = Open(t.Context(), direct, time.Now()); err != nil {
					t.Fatal(err)
				}
				s.Close()
				return
			}
			defer s.Close()
			for i, p := range s.pools {
				var jit, timeout string
				if err := p.QueryRow(t.Context(), "SELECT current_setting('jit'), current_setting('statement_timeout')").
					Scan(&jit, &timeout); err != nil {
					t.Fatal(err)
				}
				if i < 2 && jit != "off" || timeout == "0" {
					t.Errorf("pool %d: jit is %s, statement_timeout %s: the settings did not get through", i, jit, timeout)
				}
			}
		})
	}
}
