package pace

import "time"

const (
	leastShare = 1.0 / 64
	easeEvery  = time.Second      // slowing down counts once in this time
	recovery   = 20 * time.Second // from nothing to the full pace
)

// Ease slows down when a gateway asks for it and comes back by itself: each
// time the pace is halved, and it grows again evenly. The zero value goes at
// full pace. It is not safe for concurrent use.
type Ease struct {
	cut   float64 // of the pace, at the time it was last slowed down
	since time.Time
}

// Slow halves the pace. Replies that come at the same time ask for the same.
func (e *Ease) Slow(now time.Time) {
	if !e.since.IsZero() && now.Sub(e.since) < easeEvery {
		return
	}
	e.cut = 1 - max(e.Share(now)/2, leastShare)
	e.since = now
}

// Share is how much of the full pace may be used, more than 0 and at most 1.
func (e *Ease) Share(now time.Time) float64 {
	if e.since.IsZero() {
		return 1
	}
	return min(1, 1-e.cut+max(0, now.Sub(e.since).Seconds()/recovery.Seconds()))
}
