package dispatch

import (
	"cmp"
	"context"
	"sync"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/store"
)

// A message that is claimed belongs to the keeper that claimed it until its outcome is
// recorded. Should one be left over, whatever the reason, nobody would ever send it or ask
// about it. So each instance counts the messages that the database says are being sent
// through the gateways that it keeps, and where they are more than its keepers know of, those
// that no keeper knows of become doubtful.

const (
	// sweepEvery is how often it is counted, if nothing else is said.
	sweepEvery = 5 * time.Second
	// sweepLooks is how many times in a row there must be too many before they are looked
	// for: counting takes a moment in which some come and go.
	sweepLooks = 3
	// sweepRest is how long a gateway is not looked through again where nothing was found.
	sweepRest = 5 * time.Minute
	// sweepMost is how many are read at once.
	sweepMost = 500
)

// flying are the messages that a keeper has claimed, by claim, and whose outcome is not
// recorded yet.
type flying struct {
	mu     sync.Mutex
	next   int
	claims map[int][]uuid.UUID // that are not committed yet
	all    map[uuid.UUID]int   // how many claims or requests each belongs to
}

// begin begins a claim.
func (f *flying) begin() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.next++
	return f.next
}

// replace notes the messages of a claim, in the place of those that it had before.
func (f *flying) replace(claim int, c claimed) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.all == nil {
		f.all, f.claims = map[uuid.UUID]int{}, map[int][]uuid.UUID{}
	}
	for _, id := range f.claims[claim] {
		f.drop(id)
	}
	delete(f.claims, claim)
	var now []uuid.UUID
	for _, p := range c.packs {
		for i := range p.messages {
			now = append(now, p.messages[i].ID)
			f.all[p.messages[i].ID]++
		}
	}
	if now != nil {
		f.claims[claim] = now
	}
}

// depart notes that a claim is committed: each of its messages is known until its outcome is
// recorded.
func (f *flying) depart(claim int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.claims, claim)
}

// land notes that the outcome of messages is recorded.
func (f *flying) land(messages []store.Message) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for i := range messages {
		f.drop(messages[i].ID)
	}
}

func (f *flying) drop(id uuid.UUID) {
	if f.all[id]--; f.all[id] <= 0 {
		delete(f.all, id)
	}
}

func (f *flying) len() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return len(f.all)
}

func (f *flying) has(id uuid.UUID) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.all[id] > 0
}

// sweep looks for messages that are left over, until ctx ends.
func (d *Dispatch) sweep(ctx context.Context) {
	looks, rest := map[uuid.UUID]int{}, map[uuid.UUID]time.Time{}
	every := cmp.Or(d.SweepEvery, sweepEvery)
	for pause(ctx, every); ctx.Err() == nil; pause(ctx, every) {
		known := map[uuid.UUID]int{}
		kept := map[uuid.UUID]*keeper{}
		d.mu.Lock()
		for id, k := range d.kept {
			if k.lost.Load() != nil && k.holds() {
				known[id], kept[id] = k.flying.len(), k
			}
		}
		d.mu.Unlock()
		if len(kept) == 0 {
			continue
		}
		counted, err := d.Store.Sending(ctx, d.Now())
		if err != nil {
			if ctx.Err() == nil {
				d.Log.Error("counting messages that are being sent", "error", err)
			}
			continue
		}
		for id, k := range kept {
			if counted[id] <= int64(known[id]) || time.Now().Before(rest[id]) {
				looks[id] = 0
				continue
			}
			if looks[id]++; looks[id] < sweepLooks {
				continue
			}
			looks[id] = 0
			found, err := k.sweep(ctx, d.Now().Add(-(sweepLooks-1)*every))
			if err != nil && ctx.Err() == nil {
				d.Log.Error("looking for messages that nobody sends", "gateway", id, "error", err)
			}
			if found == 0 {
				rest[id] = time.Now().Add(sweepRest)
			}
		}
	}
}

// sweep makes doubtful what is being sent through the gateway by the database's account, has
// begun before a moment, and is not known to the keeper.
func (k *keeper) sweep(ctx context.Context, before time.Time) (found int, err error) {
	var after uuid.UUID
	for {
		sending, err := k.d.Store.Orphans(ctx, k.id, after, sweepMost)
		if err != nil || len(sending) == 0 {
			return found, err
		}
		after = sending[len(sending)-1].ID
		now := k.d.Now()
		var evidence []store.Evidence
		for _, m := range sending {
			if m.BeganAt.Before(before) && !k.flying.has(m.ID) && k.holds() {
				evidence = append(
					evidence,
					course.Own(m, now, delivery.Doubtful, m.Attempts, "left over: no request with it is on its way"),
				)
			}
		}
		if len(evidence) == 0 {
			continue
		}
		k.d.Log.Error("messages were left over that nobody was sending; they are doubtful now", "gateway", k.id, "messages", len(evidence))
		changed, err := k.d.Course.Record(ctx, k.d.Store, evidence, nil)
		if err != nil {
			return found, err
		}
		found += len(evidence)
		k.d.Course.Announce(changed)
	}
}
