package dispatch

import (
	"context"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// leave is how much may go now.
type leave struct{ requests, messages int }

// free is how much may go now, and if nothing how long until it is worth
// looking again.
func (k *keeper) free(g *roster.Gateway) (leave, time.Duration) {
	now := time.Now()
	if g.PausedAt != nil {
		return leave{}, time.Second // whoever resumes it kicks
	}
	k.mu.Lock()
	if k.restCause == delivery.NoCredit { // topped up: it need not rest to the end
		if h := k.d.Course.Roster.Health(k.id); h.BalanceMicros != nil && *h.BalanceMicros > 0 && h.BalanceAt.After(k.brokeAt) {
			k.restUntil = time.Time{}
		}
	}
	rest, probing, share := k.restUntil.Sub(now), k.rests > 0, k.ease.Share(now)
	k.mu.Unlock()
	if rest > 0 {
		return leave{}, min(rest, time.Second)
	}
	busy := int(k.busy.Load())
	open := g.InFlight - busy
	each := g.Dialect.Submit.Most
	if probing {
		open, each = min(open, 1-busy), 1 // one goes ahead to see
	}
	if open <= 0 {
		return leave{}, time.Second // one that comes back kicks
	}
	most := claimMost
	if each > 1 {
		most = packMost
	}
	byRequest := g.Dialect.Limits.Counting == dialect.Requests
	want := min(open*each, most)
	if byRequest {
		want = open
	}
	n := k.window.Free(now, want)
	if share < 1 {
		n = min(n, max(1, int(share*float64(g.PerSecond)))-k.window.Used(now))
	}
	if n <= 0 {
		return leave{}, max(k.window.Wait(now), 20*time.Millisecond)
	}
	if k.quota.limited() {
		var wait time.Duration
		if n, wait = k.quota.free(k.d.Course.Now(), n); n == 0 {
			return leave{}, min(wait, time.Minute)
		}
	}
	if byRequest {
		return leave{n, min(n*each, most)}, 0
	}
	return leave{min(open, n), n}, 0
}

// claimed is what was taken to be sent.
type claimed struct {
	packs    []pack
	noted    []store.Noted
	deferred int // how many wait for the pace of their sender
}

// counted is how much of the limit it uses up.
func (c claimed) counted(g *roster.Gateway) int {
	if g.Dialect.Limits.Counting == dialect.Requests {
		return len(c.packs)
	}
	n := 0
	for _, p := range c.packs {
		n += len(p.messages)
	}
	return n
}

// claim takes messages and records that they are about to go, in one
// transaction that holds only if the lease does. After it, and not before,
// they may be sent.
func (k *keeper) claim(ctx context.Context, g *roster.Gateway, free leave) (claimed, error) {
	var c claimed
	var slot store.Slot
	var goes []store.Message
	limits := k.paces()
	err := k.d.Course.Store.Transact(ctx, func(s *store.Store) error {
		c = claimed{}
		held, err := s.HoldsLease(ctx, k.id, k.d.holder)
		if err != nil || !held {
			return err
		}
		now := k.d.Course.Now()
		look := free.messages
		if k.deferring {
			look = max(look, claimMost) // the next ones may have to wait too
		}
		found, err := s.Claim(ctx, k.id, now, look)
		if err != nil || len(found) == 0 {
			k.deferring = false
			return err
		}
		senders, err := k.ration(ctx, s, found, limits)
		if err != nil {
			return err
		}
		packer := newPacker(&g.Dialect.Submit, free.requests, free.messages)
		for _, m := range found {
			switch {
			case !senders.allows(m):
				senders.wait(k, m, now)
			case packer.place(m):
				senders.count(m)
			}
		}
		c.packs, c.deferred = packer.packs, len(senders.later)
		k.deferring = c.deferred > 0
		if err := s.Defer(ctx, senders.later); err != nil {
			return err
		}
		if c.noted, err = s.SendersSent(ctx, senders.sent, span); err != nil {
			return err
		}
		if n := c.counted(g); n > 0 && k.quota.limited() {
			slot = store.Slot{Slot: now, N: n}
			if err := s.NoteWent(ctx, k.id, store.Slot{Slot: now.Truncate(k.quota.width()), N: n}); err != nil {
				return err
			}
		}
		goes = packer.messages()
		evidence := make([]store.Evidence, len(goes))
		for i, m := range goes {
			evidence[i] = course.Own(m, now, delivery.Sending, m.Attempts+1, "")
		}
		return k.d.Course.Record(ctx, s, evidence, nil)
	})
	if err != nil {
		return claimed{}, err
	}
	if slot.N > 0 {
		k.quota.take(slot.Slot, slot.N)
	}
	if len(goes) > 0 {
		k.d.Course.Hub.Changed(ids(goes)...)
	}
	return c, nil
}
