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
	for _, s := range k.d.Course.Roster.Book().Senders {
		if s.PerSecond > 0 {
			if paced == nil {
				paced = map[string]int{}
			}
			paced[s.ID] = s.PerSecond
		}
	}
	return paced
}

// pace keeps of the messages what may go now, at most so many, and defers what
// must wait for its sender. The rest is left as it is.
func (k *keeper) pace(ctx context.Context, s *store.Store, claimed []store.Message, paces map[string]int, most int, now time.Time) (fit []store.Message, noted []store.Noted, deferred int, err error) {
	var senders []string
	for _, m := range claimed {
		if paces[m.Sender] > 0 && !slices.Contains(senders, m.Sender) {
			senders = append(senders, m.Sender)
		}
	}
	if len(senders) == 0 {
		return claimed[:min(most, len(claimed))], nil, 0, nil
	}
	ages, err := s.SenderAges(ctx, senders, span)
	if err != nil {
		return nil, nil, 0, err
	}
	sent := map[string]int{}
	later := map[uuid.UUID]time.Time{}
	for _, m := range claimed {
		limit := paces[m.Sender]
		went, known := ages[m.Sender]
		switch {
		case limit == 0 || !known: // or the sender has just been taken out of use
			if len(fit) < most {
				fit = append(fit, m)
			}
		case len(went)+sent[m.Sender] < limit:
			if len(fit) < most {
				fit = append(fit, m)
				sent[m.Sender]++
			}
		default:
			later[m.ID] = k.book(booking{m.Sender, m.Lane}, went, limit, now)
		}
	}
	if err := s.Defer(ctx, later); err != nil {
		return nil, nil, 0, err
	}
	noted, err = s.SendersSent(ctx, sent, span)
	return fit, noted, len(later), err
}

// book gives the next place in time. went is how long ago the last messages of
// the sender went, the oldest first.
func (k *keeper) book(b booking, went []time.Duration, limit int, now time.Time) time.Time {
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
