package pace

import "time"

// Backoff is how long to wait before the next of several tries: First, then
// twice as long each time, at most Most, shortened by up to a quarter so that
// what failed together does not come back together.
type Backoff struct{ First, Most time.Duration }

// Wait is the pause after the given number of tries, counted from 1. jitter is
// a random number in [0, 1).
func (b Backoff) Wait(tries int, jitter float64) time.Duration {
	wait := b.First
	for range tries - 1 {
		if wait >= b.Most {
			break
		}
		wait *= 2
	}
	wait = min(wait, b.Most)
	return wait - time.Duration(jitter*float64(wait)/4)
}
