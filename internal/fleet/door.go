package fleet

import (
	"slices"
	"time"
)

// doorMost is how many arrivals a door remembers.
const doorMost = 200_000

// door notes when texts arrived at a gateway: by the kernel's clock where the fleet is served through
// [arrival.Listener], so that a stall of the fleet's own does not count.
type door struct {
	at   []time.Time // of the last ones, a ring
	next int
}

// note notes that n texts arrived together.
func (d *door) note(at time.Time, n int) {
	for range n {
		if len(d.at) < doorMost {
			d.at = append(d.at, at)
			continue
		}
		d.at[d.next] = at
		d.next = (d.next + 1) % doorMost
	}
}

// busiest is the most texts that arrived within any second.
func (d *door) busiest() (most int) {
	at := slices.SortedFunc(slices.Values(d.at), time.Time.Compare)
	from := 0
	for i := range at {
		for at[i].Sub(at[from]) >= time.Second {
			from++
		}
		most = max(most, i+1-from)
	}
	return most
}

// BusiestSecond is the most texts that arrived at the gateway within any second.
func (c *chassis) BusiestSecond() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.door.busiest()
}
