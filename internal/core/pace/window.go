// Package pace works out when the next message may go: limits, lanes and the
// waits between tries.
package pace

import "time"

// Window allows at most a number of events in any span of a given length. It
// remembers when the last ones were, so that no window, wherever it starts,
// holds more. The zero value allows everything. It is not safe for concurrent
// use: one keeper paces a gateway.
type Window struct {
	span time.Duration
	last []time.Time // ring of the last events
	next int
	made int // how often the ring was made anew
}

// Ticket is the place of events in a window.
type Ticket struct {
	at, n, made int
	time        time.Time // that is recorded for them
}

// Time is what is recorded for the events.
func (t *Ticket) Time() time.Time { return t.time }

// NewWindow allows limit events in any span; a limit of 0 or less allows all.
func NewWindow(limit int, span time.Duration) *Window {
	return &Window{span: span, last: make([]time.Time, max(limit, 0))}
}

// Free is how many events may happen at now, at most want.
func (w *Window) Free(now time.Time, want int) int {
	if len(w.last) == 0 {
		return want
	}
	free := 0
	for free < want && free < len(w.last) && w.clear((w.next+free)%len(w.last), now) {
		free++
	}
	return free
}

// Take records n events at now. The caller has asked Free before.
func (w *Window) Take(now time.Time, n int) *Ticket {
	t := &Ticket{w.next, min(n, len(w.last)), w.made, now}
	for range t.n {
		w.last[w.next] = now
		w.next = (w.next + 1) % len(w.last)
	}
	return t
}

// Amend tells at what other time events happened, or at what time at the latest
// if that is not known yet. Each place in the ring is used again only when the
// event in it is a span old, so the limit holds whatever the order of the times.
func (w *Window) Amend(t *Ticket, at time.Time) {
	if t.made != w.made {
		return
	}
	for i := range t.n {
		if place := &w.last[(t.at+i)%len(w.last)]; place.Equal(t.time) { // else it was used again
			*place = at
		}
	}
	t.time = at
}

// WaitFor is how long it is until n more events may happen; 0: they may now.
func (w *Window) WaitFor(now time.Time, n int) time.Duration {
	if len(w.last) == 0 {
		return 0
	}
	last := (w.next + min(max(n, 1), len(w.last)) - 1) % len(w.last)
	if w.clear(last, now) {
		return 0
	}
	return w.last[last].Add(w.span).Sub(now)
}

// Wait is how long after now the next event may happen; 0 if at once.
func (w *Window) Wait(now time.Time) time.Duration {
	if len(w.last) == 0 || w.clear(w.next, now) {
		return 0
	}
	return w.last[w.next].Add(w.span).Sub(now)
}

func (w *Window) clear(i int, now time.Time) bool {
	return w.last[i].IsZero() || now.Sub(w.last[i]) >= w.span
}

// Limit changes how many events are allowed in a span. Those that were before
// still count.
func (w *Window) Limit(limit int) {
	limit = max(limit, 0)
	if limit == len(w.last) {
		return
	}
	kept := make([]time.Time, 0, limit)
	for i := range w.last { // the oldest first
		kept = append(kept, w.last[(w.next+i)%len(w.last)])
	}
	if over := len(kept) - limit; over > 0 {
		kept = kept[over:]
	}
	w.made++
	w.last = append(make([]time.Time, limit-len(kept)), kept...)
	w.next = 0
}

// Used is how many of the allowed events are within the span that ends now.
func (w *Window) Used(now time.Time) int { return len(w.last) - w.Free(now, len(w.last)) }
