// Package pace works out when the next message may go: limits, lanes and the
// waits between tries.
package pace

import (
	"slices"
	"time"
)

// Window allows at most a number of events in any span of a given length, wherever it
// starts. An event has a place from when it may happen; the place is free again a span
// after the moment at which it is known to have happened, and not before: what is not
// known to be over may happen at any moment. The zero value allows everything. It is not
// safe for concurrent use: one keeper paces a gateway.
type Window struct {
	limit int
	span  time.Duration
	known []time.Time // until when each of the last events had happened, the oldest first
	open  int         // events of which that is not known yet
}

// Ticket is the place of events that may happen from now on.
type Ticket struct {
	n     int
	known bool
}

// notKnown is the wait where nobody knows how long it is.
const notKnown = 2 * time.Millisecond

// NewWindow allows limit events in any span; a limit of 0 or less allows all.
func NewWindow(limit int, span time.Duration) *Window {
	return &Window{limit: max(limit, 0), span: span}
}

// Free is how many events may happen at now, at most want.
func (w *Window) Free(now time.Time, want int) int {
	if w.limit == 0 {
		return want
	}
	return max(min(want, w.limit-w.Used(now)), 0)
}

// Used is how many events have a place at now. They may be more than are allowed if
// the limit was lowered.
func (w *Window) Used(now time.Time) int { return w.open + len(w.known) - w.over(now) }

// over is how many of the known events are over at now.
func (w *Window) over(now time.Time) int {
	n, _ := slices.BinarySearchFunc(w.known, now, func(at, now time.Time) int {
		if now.Sub(at) >= w.span {
			return -1
		}
		return 1
	})
	return n
}

// Take records n events that happen at now. The caller has asked Free before.
func (w *Window) Take(now time.Time, n int) { w.Arrived(w.Leave(now, n), now) }

// Leave gives n events a place that may happen from now on. The caller has asked Free
// before.
func (w *Window) Leave(now time.Time, n int) *Ticket {
	w.known = slices.Delete(w.known, 0, w.over(now))
	w.open += n
	return &Ticket{n: n}
}

// Arrived tells that the events of a ticket had happened, or will not happen, at a
// moment. The first call counts.
func (w *Window) Arrived(t *Ticket, at time.Time) {
	if t.known {
		return
	}
	t.known = true
	w.open -= t.n
	if w.limit == 0 {
		return
	}
	place, _ := slices.BinarySearchFunc(w.known, at, time.Time.Compare)
	w.known = slices.Insert(w.known, place, slices.Repeat([]time.Time{at}, t.n)...)
}

// WaitFor is how long it is until n more events may happen; 0: they may now. Where that
// is not known it is a moment.
func (w *Window) WaitFor(now time.Time, n int) time.Duration {
	if w.limit == 0 {
		return 0
	}
	before := w.open + len(w.known) + min(max(n, 1), w.limit) - w.limit // that have to be over
	switch {
	case before <= 0:
		return 0
	case before > len(w.known):
		return notKnown
	}
	return max(w.known[before-1].Add(w.span).Sub(now), 0)
}

// Wait is how long after now the next event may happen; 0 if at once.
func (w *Window) Wait(now time.Time) time.Duration { return w.WaitFor(now, 1) }

// Empty is how long after now no event has a place any more, if none happens meanwhile;
// what may still happen is taken to happen now.
func (w *Window) Empty(now time.Time) time.Duration {
	switch {
	case w.open > 0:
		return w.span
	case len(w.known) == 0:
		return 0
	}
	return max(w.known[len(w.known)-1].Add(w.span).Sub(now), 0)
}

// Limit changes how many events are allowed in a span. Those that were before
// still count.
func (w *Window) Limit(limit int) { w.limit = max(limit, 0) }
