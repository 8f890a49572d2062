package dispatch

import (
	"time"

	"calmpigeon.example/internal/store"
)

const (
	minute = time.Minute
	day    = 24 * time.Hour
)

// quota keeps a gateway's limits by the minute and by the day, in whichever
// minute or 24 hours. What went is in the database, so that neither a restart
// nor another instance forgets it. Slots are counted by the database's records
// in whole: a slot that has begun within the span counts.
type quota struct {
	perMinute, perDay int
	slots             []store.Slot // the oldest first
}

func (q *quota) limited() bool { return q.perMinute > 0 || q.perDay > 0 }

// width is how finely what went is noted.
func (q *quota) width() time.Duration {
	if q.perMinute > 0 {
		return time.Second
	}
	return minute
}

// quotaShare is the share of a quota that is left to passcodes: one in so many.
const quotaShare = 50

// free is how many may go at now, at most want, and if none how long until one
// may. One in share is left to others; 0 leaves none.
func (q *quota) free(now time.Time, want, share int) (int, time.Duration) {
	wait := time.Duration(0)
	for _, limit := range []struct {
		n    int
		span time.Duration
	}{{q.perMinute, minute}, {q.perDay, day}} {
		if limit.n == 0 {
			continue
		}
		if share > 0 {
			limit.n -= (limit.n + share - 1) / share
		}
		used := 0
		var first time.Time
		for _, slot := range q.slots {
			if end := slot.Slot.Add(slot.Width + limit.span); end.After(now) {
				if used == 0 {
					first = end
				}
				used += slot.N
			}
		}
		if limit.n-used < want {
			want = max(0, limit.n-used)
		}
		if limit.n <= used {
			wait = max(wait, first.Sub(now))
		}
	}
	return want, wait
}

// take notes that n go at now, and returns the slot to be written down.
func (q *quota) take(now time.Time, n int) store.Slot {
	slot := store.Slot{Slot: now.Truncate(q.width()), N: n, Width: q.width()}
	longest := minute
	if q.perDay > 0 {
		longest = day
	}
	for len(q.slots) > 0 && q.slots[0].Slot.Add(longest+minute).Before(now) {
		q.slots = q.slots[1:]
	}
	if last := len(q.slots) - 1; last >= 0 && q.slots[last].Slot.Equal(slot.Slot) && q.slots[last].Width == slot.Width {
		q.slots[last].N += n
	} else {
		q.slots = append(q.slots, slot)
	}
	return slot
}
