package dispatch

import (
	"context"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/store"
)

// A sender or a batch may have a pace of its own, whatever gateways it goes through and
// whatever instances keep them. The database counts; a keeper that has looked
// at more messages of one than may go gives each of the others a place in
// time, so that it is looked at again when its turn has come and not before. A
// long queue of a slow sender is thus looked at about twice, and holds nobody
// up.

// booking is what places in time are given for: lanes do not wait for each
// other.
type booking struct {
	of   store.Paced
	lane int
}

// limit is so many messages in a span.
type limit struct {
	n    int
	span time.Duration
}

// ration is what of claimed messages may go, as far as their senders and batches are
// concerned.
type ration struct {
	senders map[string]int // those with a pace, a second
	batches map[uuid.UUID]store.BatchNow
	limits  map[store.Paced]limit
	ages    map[store.Paced][]time.Duration // how long ago their last ones went
	sent    map[store.Paced]int
	leaving []store.Leaving
	later   map[uuid.UUID]time.Time
	within  time.Duration               // by when a message that leaves has arrived, or will not
	read    time.Time                   // when the ages were
	waits   map[uuid.UUID]time.Duration // since then, until a message may leave
}

const (
	// early is how much earlier than its place comes free a message is claimed: to claim it
	// takes a while, and each place would come that much later every time.
	early = 60 * time.Millisecond
)

// ration looks up how much the senders and batches of claimed messages have sent. It holds
// until the transaction ends.
func (k *keeper) ration(
	ctx context.Context,
	s *store.Store,
	claimed []store.Message,
	senders map[string]int,
	batches map[uuid.UUID]store.BatchNow,
	within time.Duration,
) (*ration, error) {
	r := &ration{
		within:  within,
		senders: senders,
		batches: batches,
		limits:  map[store.Paced]limit{},
		sent:    map[store.Paced]int{},
		later:   map[uuid.UUID]time.Time{},
		waits:   map[uuid.UUID]time.Duration{},
	}
	if len(senders) > 0 || len(batches) > 0 {
		for i := range claimed {
			r.note(&claimed[i])
		}
	}
	if len(r.limits) == 0 {
		return r, nil
	}
	spans := make(map[store.Paced]time.Duration, len(r.limits))
	for of, limit := range r.limits {
		spans[of] = limit.span
	}
	var err error
	r.ages, err = s.Ages(ctx, spans)
	r.read = time.Now()
	return r, err
}

// note notes the paces that a message has to keep to.
func (r *ration) note(m *store.Message) {
	if n, ok := r.senders[m.Sender]; ok {
		r.limits[store.Paced{Name: m.Sender}] = limit{n, span}
	}
	if first, _, ok := store.BatchOf(m.ID); ok {
		if n, every := r.batches[first].Pace.Window(); n > 0 {
			r.limits[store.Paced{Batch: first}] = limit{n, every + (span - time.Second)}
		}
	}
}

// of are the paces that a message has to keep to. A sender that has just been taken out of
// use has none any more.
func (r *ration) of(m store.Message) []store.Paced {
	if len(r.ages) == 0 {
		return nil
	}
	all := make([]store.Paced, 0, 2)
	for _, p := range []store.Paced{{Name: m.Sender}, {Batch: batchOf(m)}} {
		if _, known := r.ages[p]; known {
			all = append(all, p)
		}
	}
	return all
}

func batchOf(m store.Message) uuid.UUID {
	first, _, _ := store.BatchOf(m.ID)
	return first
}

// allows reports whether a message may go; if not it has been given a place in time.
func (r *ration) allows(k *keeper, m store.Message, now time.Time) bool {
	if b, ok := r.batches[batchOf(m)]; ok && !b.Goes() {
		r.later[m.ID] = store.Never()
		return false
	}
	var later time.Time
	var wait time.Duration
	for _, p := range r.of(m) {
		limit, ages := r.limits[p], r.ages[p]
		over := len(ages) + r.sent[p] - limit.n
		if over < 0 {
			continue
		}
		// It takes the place of one that went, if there is one that is soon long enough ago.
		if over < len(ages) && limit.span-ages[over] <= early {
			wait = max(wait, limit.span-ages[over])
		} else {
			if at := k.book(booking{p, m.Lane}, r.ages[p], limit, now); at.After(later) {
				later = at
			}
		}
	}
	if later.IsZero() {
		if wait > 0 {
			r.waits[m.ID] = wait
		}
		return true
	}
	r.later[m.ID] = later
	return false
}

// count notes that a message goes.
func (r *ration) count(m store.Message) {
	for _, p := range r.of(m) {
		r.sent[p]++
		r.leaving = append(r.leaving, store.Leaving{Paced: p, Message: m.ID, Span: r.limits[p].span, Within: r.within})
	}
}

// notBefore is when all of some messages may leave; zero: at once.
func (r *ration) notBefore(messages []store.Message) (at time.Time) {
	for _, m := range messages {
		if wait := r.waits[m.ID]; wait > 0 && r.read.Add(wait).After(at) {
			at = r.read.Add(wait)
		}
	}
	return at
}

// book gives the next place in time. went is how long ago the last messages
// went, the oldest first.
func (k *keeper) book(b booking, went []time.Duration, limit limit, now time.Time) time.Time {
	k.planning.Lock()
	defer k.planning.Unlock()
	// A little closer than the pace: one that comes a moment too early is given another place
	// behind all others, and its own would be lost.
	step := limit.span / time.Duration(limit.n) * 96 / 100
	at := now.Add(step)
	if len(went) >= limit.n { // until the first of them is out of the window
		at = now.Add(limit.span - went[len(went)-limit.n] - early)
	}
	if next := k.booked[b].Add(step); next.After(at) {
		at = next
	}
	k.booked[b] = at
	return at
}
