package strays

import (
	"context"
	"fmt"
	"sync"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/store"
)

// Clocks gathers how gateways' clocks go, by the receipts that say when. A receipt comes at the moment of
// which it speaks, or after; so those that came soonest after the time they gave tell how far the clock is
// behind, and if they came before that time, how far it is ahead. One in twenty may give a time that is
// wrong. What was gathered since the last flush is lost in a crash; nothing but this rests on it.
type Clocks struct {
	Store *store.Store

	mu    sync.Mutex
	fresh map[clockOf]*store.Clock // not written yet
	known map[uuid.UUID][]store.Clock
}

type clockOf struct {
	gateway uuid.UUID
	hour    time.Time
}

const (
	// clockLeast is how many receipts have to have said when, for the clock to be known.
	clockLeast = 10
	// clockHours is how far back it is looked, and clockDays how long it is kept.
	clockHours, clockDays = 24, 31
	// muchLater is how long after its submission a receipt is named as late.
	muchLater = 24 * time.Hour
)

// Note notes that a receipt about a submission came, and when it says that this happened. began is
// zero where it is not known.
func (c *Clocks) Note(gateway uuid.UUID, came, says, began time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	one := c.of(clockOf{gateway, came.Truncate(time.Hour)})
	one.N++
	one.Came(came.Sub(says).Milliseconds())
	if !began.IsZero() {
		if says.Before(began.Add(-time.Second)) { // times are rounded
			one.Early++
		}
		if came.Sub(began) > muchLater {
			one.Late++
		}
	}
}

// Heard notes that receipts of a gateway came.
func (c *Clocks) Heard(gateway uuid.UUID, at time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	one := c.of(clockOf{gateway, at.Truncate(time.Hour)})
	if one.HeardAt == nil || at.After(*one.HeardAt) {
		one.HeardAt = &at
	}
}

// of is what is not written yet of a gateway and an hour. Who calls it holds the lock.
func (c *Clocks) of(k clockOf) *store.Clock {
	if c.fresh == nil {
		c.fresh = map[clockOf]*store.Clock{}
	}
	one := c.fresh[k]
	if one == nil {
		one = &store.Clock{GatewayID: k.gateway, Hour: k.hour}
		c.fresh[k] = one
	}
	return one
}

// Flush writes what was gathered, and reads what all instances know.
func (c *Clocks) Flush(ctx context.Context, now time.Time) error {
	c.mu.Lock()
	fresh := c.fresh
	c.fresh = nil
	c.mu.Unlock()
	var all []store.Clock
	for _, one := range fresh {
		all = append(all, *one)
	}
	if err := c.Store.AddClocks(ctx, all); err != nil {
		c.mu.Lock()
		defer c.mu.Unlock()
		for k, one := range fresh {
			to := c.of(k)
			*to = to.Join(*one)
		}
		return err
	}
	read, err := c.Store.Clocks(ctx, now.Add(-clockHours*time.Hour))
	if err != nil {
		return err
	}
	known := map[uuid.UUID][]store.Clock{}
	for _, one := range read {
		known[one.GatewayID] = append(known[one.GatewayID], one)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.known = known
	return nil
}

// Tidy forgets what is old.
func (c *Clocks) Tidy(ctx context.Context, now time.Time) error {
	return c.Store.DropClocks(ctx, now.Add(-clockDays*24*time.Hour))
}

// Skew is by how much a gateway's clock is ahead of ours, below zero if it is behind; false if too little
// is known of it. It is that of the last hour of which enough is known.
func (c *Clocks) Skew(gateway uuid.UUID) (time.Duration, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, one := range c.known[gateway] {
		if one.N >= clockLeast && len(one.Least) > 0 {
			at := min(int(one.N/20), len(one.Least)-1)
			return -time.Duration(one.Least[at]) * time.Millisecond, true
		}
	}
	return 0, false
}

// Day is what the receipts of a gateway of the last 24 hours came to.
func (c *Clocks) Day(gateway uuid.UUID) store.Clock {
	c.mu.Lock()
	defer c.mu.Unlock()
	day := store.Clock{GatewayID: gateway}
	for _, one := range c.known[gateway] {
		day = day.Join(one)
	}
	return day
}

const (
	// aheadLeast and behindLeast are from when on a clock is said to be wrong: receipts come no sooner than
	// at once, and may be held back for a while.
	aheadLeast, behindLeast = 3 * time.Second, time.Minute
)

// Warnings says what is wrong with a gateway's times.
func (c *Clocks) Warnings(gateway uuid.UUID) []string {
	var all []string
	about := func(d time.Duration) string {
		if d < 2*time.Minute {
			return fmt.Sprintf("%.0f seconds", d.Seconds())
		}
		return fmt.Sprintf("%.0f minutes", d.Minutes())
	}
	switch skew, known := c.Skew(gateway); {
	case known && skew >= aheadLeast:
		all = append(all, fmt.Sprintf("Its clock is about %s ahead of ours.", about(skew)))
	case known && -skew >= behindLeast:
		all = append(
			all,
			fmt.Sprintf("Its receipts come at least %s after the time that they give: its clock is behind, or it holds them back.",
				about(-skew)),
		)
	}
	day := c.Day(gateway)
	if day.Early > 0 {
		all = append(all, fmt.Sprintf("%d of its %d receipts of the last day give a time before the message went.", day.Early, day.N))
	}
	if day.Late > 0 {
		all = append(
			all,
			fmt.Sprintf("%d of its %d receipts of the last day came more than a day after the message went.", day.Late, day.N),
		)
	}
	return all
}
