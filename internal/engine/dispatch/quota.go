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
// minute or 24 hours. A claimed message counts until it is known to have arrived, and
// from then on for the span. A slot counts in whole: until the span is over for its end.
//
// The database notes each claim, so that neither a restart nor another
// instance forgets it.
type quota struct {
	perMinute, perDay int
	claimed           int          // and not known to have arrived yet
	slots             []store.Slot // when the others arrived, the oldest first
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
		used := q.claimed
		first := now.Add(minute) // sooner if something claimed does not go: then somebody rings
		for _, slot := range q.slots {
			if end := slot.Slot.Add(slot.Width + limit.span); end.After(now) {
				if used == q.claimed {
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

// claim counts n that are claimed.
func (q *quota) claim(n int) { q.claimed += n }

// forgo counts n no more that are claimed and will not go.
func (q *quota) forgo(n int) { q.claimed -= n }

// arrive notes that n of those that are claimed have arrived by now.
func (q *quota) arrive(now time.Time, n int) {
	q.claimed -= n
	if !q.limited() {
		return
	}
	longest := minute
	if q.perDay > 0 {
		longest = day
	}
	for len(q.slots) > 0 && q.slots[0].Slot.Add(longest+minute).Before(now) {
		q.slots = q.slots[1:]
	}
	slot := q.slot(now, n)
	if last := len(q.slots) - 1; last >= 0 && q.slots[last].Slot.Equal(slot.Slot) && q.slots[last].Width == slot.Width {
		q.slots[last].N += n
	} else {
		q.slots = append(q.slots, slot)
	}
}

// slot is what to write down when n are claimed at now.
func (q *quota) slot(now time.Time, n int) store.Slot {
	return store.Slot{Slot: now.Truncate(q.width()), N: n, Width: q.width()}
}

// inherit takes over what is written down. The slots say when it was claimed: it may have arrived up to
// late after that, and no later than now.
func (q *quota) inherit(slots []store.Slot, late time.Duration, now time.Time) {
	for i := range slots {
		if slots[i].Slot = slots[i].Slot.Add(late); slots[i].Slot.After(now) {
			slots[i].Slot = now
		}
	}
	q.slots = slots
}
