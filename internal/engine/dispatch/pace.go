package dispatch

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/store"
)

// A sender may have a pace of its own, whatever gateways it goes through and
// whatever instances keep them. The database counts; a keeper that has looked
// at more messages of a sender than may go gives each of the others a place in
// time, so that it is looked at again when its turn has come and not before. A
// long queue of a slow sender is thus looked at about twice, and holds nobody
// up.

// booking is what places in time are given for: lanes do not wait for each
// other.
type booking struct {
	sender string
	lane   int
}

// paces are the senders with a pace of their own, in messages a second.
func (k *keeper) paces() map[string]int {
	var paced map[string]int
	for _, s := range k.d.Roster.Book().Senders {
		if s.PerSecond > 0 {
			if paced == nil {
				paced = map[string]int{}
			}
			paced[s.ID] = s.PerSecond
		}
	}
	return paced
}

// ration is what the senders of claimed messages may still send.
type ration struct {
	limits map[string]int
	ages   map[string][]time.Duration // how long ago their last ones went
	sent   map[string]int
	later  map[uuid.UUID]time.Time
}

// ration looks up how much the senders of claimed messages have sent. It holds
// until the transaction ends.
func (k *keeper) ration(ctx context.Context, s *store.Store, claimed []store.Message, limits map[string]int) (*ration, error) {
	r := &ration{limits: limits, sent: map[string]int{}, later: map[uuid.UUID]time.Time{}}
	var senders []string
	for _, m := range claimed {
		if limits[m.Sender] > 0 && !slices.Contains(senders, m.Sender) {
			senders = append(senders, m.Sender)
		}
	}
	if len(senders) == 0 {
		return r, nil
	}
	var err error
	r.ages, err = s.SenderAges(ctx, senders, span)
	return r, err
}

// allows reports whether a message may go as far as its sender is concerned. A
// sender that has just been taken out of use has no pace any more.
func (r *ration) allows(m store.Message) bool {
	went, known := r.ages[m.Sender]
	return !known || len(went)+r.sent[m.Sender] < r.limits[m.Sender]
}

// count notes that a message goes.
func (r *ration) count(m store.Message) {
	if _, known := r.ages[m.Sender]; known {
		r.sent[m.Sender]++
	}
}

// wait gives a message its place in time.
func (r *ration) wait(k *keeper, m store.Message, now time.Time) {
	r.later[m.ID] = k.book(booking{m.Sender, m.Lane}, r.ages[m.Sender], r.limits[m.Sender], now)
}

// book gives the next place in time. went is how long ago the last messages of
// the sender went, the oldest first.
func (k *keeper) book(b booking, went []time.Duration, limit int, now time.Time) time.Time {
	k.planning.Lock()
	defer k.planning.Unlock()
	step := span / time.Duration(limit)
	at := now.Add(step)
	if len(went) >= limit { // until the first of them is out of the window
		at = now.Add(span - went[len(went)-limit])
	}
	if next := k.booked[b].Add(step); next.After(at) {
		at = next
	}
	k.booked[b] = at
	return at
}
