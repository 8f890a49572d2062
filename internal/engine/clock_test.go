package engine

import (
	"testing"
	"time"

	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

// Whatever the machines' clocks say, instances agree on the time: it is the
// database's.
func TestClockIsTheDatabases(t *testing.T) {
	t.Parallel()
	s, err := store.Open(t.Context(), pgtest.Database(t), time.Now())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for _, wrong := range []time.Duration{0, time.Hour, -36 * time.Hour} {
		c := clock{local: func() time.Time { return time.Now().Add(wrong) }, store: s}
		if err := c.set(t.Context()); err != nil {
			t.Fatal(err)
		}
		theirs, err := s.Time(t.Context())
		if off := theirs.Sub(c.now()); err != nil || off.Abs() > time.Second {
			t.Errorf("with a clock that is %v wrong, time is %v off, %v", wrong, off, err)
		}
	}
}
