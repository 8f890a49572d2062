// Package watch tells waiting readers that messages have changed.
//
// It carries no data: who is told reads again. News travels within one
// instance; readers therefore also look again by themselves every so often,
// which is how they learn of what other instances did.
package watch

import (
	"sync"

	"github.com/google/uuid"
)

// Hub passes news on. The zero value is ready to use.
type Hub struct {
	mu    sync.Mutex
	one   map[uuid.UUID]map[chan struct{}]struct{}
	every map[chan struct{}]struct{}
}

// Changed tells everybody who waits for one of the messages.
func (h *Hub) Changed(ids ...uuid.UUID) {
	if len(ids) == 0 {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, id := range ids {
		for c := range h.one[id] {
			nudge(c)
		}
	}
	for c := range h.every {
		nudge(c)
	}
}

// nudge never waits: a reader that has not looked yet need not be told twice.
func nudge(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// Message returns a channel that is told of changes to one message, and a
// function that ends it.
func (h *Hub) Message(id uuid.UUID) (<-chan struct{}, func()) {
	c := make(chan struct{}, 1)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.one == nil {
		h.one = map[uuid.UUID]map[chan struct{}]struct{}{}
	}
	if h.one[id] == nil {
		h.one[id] = map[chan struct{}]struct{}{}
	}
	h.one[id][c] = struct{}{}
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.one[id], c)
		if len(h.one[id]) == 0 {
			delete(h.one, id)
		}
	}
}

// Every returns a channel that is told of every change, and a function that
// ends it.
func (h *Hub) Every() (<-chan struct{}, func()) {
	c := make(chan struct{}, 1)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.every == nil {
		h.every = map[chan struct{}]struct{}{}
	}
	h.every[c] = struct{}{}
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.every, c)
	}
}

// Kick wakes one loop. The zero value is not ready; use [NewKick].
type Kick chan struct{}

// NewKick makes a kick.
func NewKick() Kick { return make(Kick, 1) }

// Now wakes the loop, or lets it run once more if it is awake.
func (k Kick) Now() { nudge(k) }

// Bells wake the keepers of gateways, each by itself. The zero value is not
// ready; use [NewBells].
type Bells struct {
	// Fresh is kicked when there may be gateways without a keeper.
	Fresh Kick

	mu    sync.Mutex
	bells map[uuid.UUID]*Bell
}

// Bell wakes one keeper: Some when there may be something to do, and Urgent as
// well when it should not wait for more to come.
type Bell struct{ Some, Urgent Kick }

// NewBells makes bells.
func NewBells() *Bells { return &Bells{Fresh: NewKick(), bells: map[uuid.UUID]*Bell{}} }

// Of is the bell of a gateway.
func (b *Bells) Of(gateway uuid.UUID) *Bell {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.bells[gateway] == nil {
		b.bells[gateway] = &Bell{NewKick(), NewKick()}
	}
	return b.bells[gateway]
}

// Ring rings for a gateway.
func (b *Bells) Ring(gateway uuid.UUID, urgent bool) {
	bell := b.Of(gateway)
	bell.Some.Now()
	if urgent {
		bell.Urgent.Now()
	}
}

// RingAll rings for every gateway: what concerns them may have changed.
func (b *Bells) RingAll() {
	b.Fresh.Now()
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, bell := range b.bells {
		bell.Some.Now()
	}
}
