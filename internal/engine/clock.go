package engine

import (
	"context"
	"sync/atomic"
	"time"

	"calmpigeon.example/internal/store"
)

// clock is the database's, which all instances share: what one says is due
// another one must not find in the future. It is asked now and then how far it
// is from our own.
type clock struct {
	local func() time.Time
	store *store.Store // nil: local is the time
	ahead atomic.Int64 // nanoseconds
}

// now is the time in the precision that PostgreSQL keeps.
func (c *clock) now() time.Time {
	return c.local().Add(time.Duration(c.ahead.Load())).UTC().Truncate(time.Microsecond)
}

// set asks the database for its time. Of several answers the one that came
// soonest is the most exact.
func (c *clock) set(ctx context.Context) error {
	if c.store == nil {
		return nil
	}
	var best time.Duration
	for try := range 3 {
		asked := time.Now()
		before := c.local()
		theirs, err := c.store.Time(ctx)
		if err != nil {
			return err
		}
		if took := time.Since(asked); try == 0 || took < best {
			best = took
			c.ahead.Store(int64(theirs.Sub(before.Add(took / 2))))
		}
	}
	return nil
}
