// Package events tells applications what happens: it calls their addresses, signed as Standard Webhooks says, from
// what the transactions wrote in which it happened.
//
// Of all instances one tells, by a lease, so that what is about one subject is told in the order in which it happened.
// Each receiver has a [teller] of its own and waits for no other. Being told may be repeated, after a crash or where an
// answer was lost, always under the same id: an application that wants each event once remembers ids.
package events

import (
	"context"
	"math/rand/v2"
	"net/http"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/webhook"
	"calmpigeon.example/internal/engine/attention"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/guard"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// lease is what is kept by whoever tells.
var lease = uuid.MustParse("01900000-0000-7000-8000-0000000e7e17")

// Events tells of what happens.
type Events struct {
	kit.Kit
	Lease time.Duration
	Luck  func() float64 // from 0 up to 1
	Needs func(context.Context) ([]attention.Need, error)

	client *http.Client
	holder uuid.UUID
	until  atomic.Int64 // by our own clock, in nanoseconds since 1970: until when the lease is ours

	mu      sync.Mutex
	tellers map[uuid.UUID]*teller
	batches map[uuid.UUID]string // by their first messages
}

// New makes what tells of events; to no private address if onlyPublic is set.
func New(k kit.Kit, span time.Duration, onlyPublic bool, needs func(context.Context) ([]attention.Need, error)) *Events {
	return &Events{Kit: k, Lease: span, Luck: rand.Float64, Needs: needs, client: courier.NewClient(onlyPublic), holder: store.NewID(),
		tellers: map[uuid.UUID]*teller{}, batches: map[uuid.UUID]string{}}
}

// Run tells until ctx ends, whenever it has the lease.
func (e *Events) Run(ctx context.Context) {
	defer e.client.CloseIdleConnections()
	var halt func() // nil: nobody is told by us
	defer func() {
		if halt != nil {
			halt()
		}
		e.giveBack(ctx)
	}()
	tick := time.NewTicker(e.Lease / 4)
	defer tick.Stop()
	for ctx.Err() == nil {
		asked := time.Now()
		held, err := store.Lease{}, error(nil)
		wanted := len(e.Roster.Receivers()) > 0 && e.Gate.Open()
		if wanted { // else nobody is asked for the lease, time and again
			held, err = e.Store.TakeLease(ctx, lease, e.holder, e.Lease)
		}
		switch {
		case !wanted && halt != nil:
			halt()
			halt = nil
			e.giveBack(ctx)
			e.until.Store(0)
		case err == nil && held.Held:
			e.until.Store(asked.Add(e.Lease).UnixNano())
			if halt == nil {
				halt = e.begin(ctx)
			}
		case err == nil || !e.holds():
			if err != nil && ctx.Err() == nil {
				e.Log.Error("keeping those who are told of events", "error", err)
			}
			e.until.Store(0)
			if halt != nil {
				halt()
				halt = nil
			}
		}
		select {
		case <-ctx.Done():
		case <-tick.C:
		}
	}
}

// begin lets receivers be told, until what it returns is called.
func (e *Events) begin(ctx context.Context) func() {
	ctx, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		e.tell(ctx)
	}()
	return func() {
		stop()
		<-done
	}
}

// holds reports whether the lease is ours.
func (e *Events) holds() bool { return time.Now().UnixNano() < e.until.Load() }

// giveBack gives the lease back, if we have it, so that nobody has to wait for its end.
func (e *Events) giveBack(ctx context.Context) {
	if !e.holds() {
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	if err := e.Store.GiveLease(ctx, lease, e.holder, 0); err != nil {
		e.Log.Warn("giving back who tells of events", "error", err)
	}
}

const (
	// lookEvery is how often it is looked whether receivers came or went.
	lookEvery = 250 * time.Millisecond
	// attendEvery is how often it is looked what wants somebody, and tidyEvery what is too late to be told.
	attendEvery = 10 * time.Second
	tidyEvery   = 30 * time.Second
)

// tell keeps a teller for each receiver, until ctx ends.
func (e *Events) tell(ctx context.Context) {
	var running sync.WaitGroup
	defer running.Wait()
	defer func() {
		e.mu.Lock()
		defer e.mu.Unlock()
		clear(e.tellers)
	}()
	changed, end := e.Hub.Every()
	defer end()
	look, attend, tidy := time.NewTicker(lookEvery), time.NewTicker(attendEvery), time.NewTicker(tidyEvery)
	defer look.Stop()
	defer attend.Stop()
	defer tidy.Stop()
	for {
		e.reconcile(ctx, &running)
		var err error
		select {
		case <-ctx.Done():
			return
		case <-changed:
			e.wake(nil)
			continue
		case <-look.C:
		case <-attend.C:
			err = e.attend(ctx)
		case <-tidy.C:
			err = e.tidy(ctx)
		}
		if err != nil && ctx.Err() == nil {
			e.Log.Error("telling of events", "error", err)
		}
	}
}

// reconcile lets each receiver that is to be called have a teller, and no other.
func (e *Events) reconcile(ctx context.Context, running *sync.WaitGroup) {
	wanted := map[uuid.UUID]*roster.Receiver{}
	for _, r := range e.Roster.Receivers() {
		if !r.Follows() && r.PausedAt == nil {
			wanted[r.ID] = r
		}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	for id, t := range e.tellers {
		if wanted[id] == nil {
			t.stop()
			delete(e.tellers, id)
		}
	}
	for id := range wanted {
		if e.tellers[id] != nil {
			continue
		}
		within, stop := context.WithCancel(ctx)
		t := newTeller(e, id, stop)
		e.tellers[id] = t
		running.Go(func() { e.runTeller(within, id, t) })
	}
}

// runTeller runs a teller. If it panics, another takes its place when it is looked the next time; what it had in hand and
// did not record is told again.
func (e *Events) runTeller(ctx context.Context, id uuid.UUID, t *teller) {
	err := guard.Try(func() error {
		t.run(ctx)
		return nil
	})
	if err == nil {
		return
	}
	e.Log.Error("telling a receiver of events failed and begins again", "receiver", id, "error", err)
	t.stop()
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.tellers[id] == t {
		delete(e.tellers, id)
	}
}

// Wake tells that receivers are to be told of something.
func (e *Events) Wake(receivers []uuid.UUID) {
	if len(receivers) > 0 {
		e.wake(receivers)
	}
}

// wake wakes the tellers of receivers, or all.
func (e *Events) wake(receivers []uuid.UUID) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for id, t := range e.tellers {
		if receivers == nil || slices.Contains(receivers, id) {
			t.kick.Now()
		}
	}
}

// tidy parks what was to be told to those who have not been there for a day, and removes those who follow no more.
func (e *Events) tidy(ctx context.Context) error {
	now := e.Now()
	gone, err := e.Store.Unfollowed(ctx, now.Add(-followLasts))
	if err != nil {
		return err
	}
	for _, id := range gone {
		if err := e.Roster.RemoveReceiver(ctx, id, now); err != nil {
			return err
		}
	}
	healths, err := e.Store.ReceiverHealths(ctx)
	if err != nil {
		return err
	}
	for _, r := range e.Roster.Receivers() {
		why := ""
		switch h := healths[r.ID]; {
		case r.Follows() || h.Waiting == 0:
			continue
		case r.PausedAt != nil:
			why = "the receiver was paused for as long as it would have been tried"
		case h.Failures >= restAfter:
			why = "the receiver took nothing for as long as it was tried; the last time: " + h.Failure
		default:
			continue
		}
		n, err := e.Store.Park(ctx, r.ID, now.Add(-webhook.TryFor), now, why)
		if n > 0 {
			e.Log.Warn("events are told no more", "receiver", r.Name, "events", n, "why", why)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Retell lets a receiver be told again of a choice of events, and returns of how many. try counts alone.
func (e *Events) Retell(ctx context.Context, r *roster.Receiver, f store.EventFilter, try bool) (all int, err error) {
	after := uuid.Nil
	for {
		n, last, err := e.Store.Retell(ctx, r.Receiver, e.Now(), f, after, try)
		if err != nil {
			return all, err
		}
		if all, after = all+n, last; last == uuid.Nil {
			break
		}
	}
	e.wake([]uuid.UUID{r.ID})
	return all, nil
}
