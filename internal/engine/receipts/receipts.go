// Package receipts takes callbacks in, finds the messages they speak of, and
// settles strays.
package receipts

import (
	"context"
	"crypto/hmac"
	"errors"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/gather"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// Errors of [Receipts.Take].
var (
	ErrNobody = errors.New("no gateway has this address")
	ErrForged = errors.New("the receipt does not prove that it comes from the gateway")
)

// inboxLimits bound what is stored as one set.
var inboxLimits = gather.Limits{Rows: 500, Bytes: 8 << 20, Linger: 2 * time.Millisecond}

// leftover is how old a callback is that whoever took it has forgotten: they
// ended, or had too many.
const leftover = 2 * time.Second

// Receipts takes and settles callbacks.
type Receipts struct {
	Course *course.Course
	Log    *slog.Logger

	inbox *gather.Gather[store.Receipt, struct{}]

	mu       sync.Mutex
	settlers map[uuid.UUID]*settler
	running  sync.WaitGroup
}

// New makes it ready to take callbacks once it runs.
func New(c *course.Course, log *slog.Logger) *Receipts {
	r := &Receipts{Course: c, Log: log, settlers: map[uuid.UUID]*settler{}}
	bulk := func(one store.Receipt) (rows, bytes int) { return 1, size(one) }
	r.inbox = gather.New(inboxLimits, bulk, func(ctx context.Context, set []store.Receipt) ([]struct{}, error) {
		return make([]struct{}, len(set)), c.Store.StoreReceipts(ctx, set)
	})
	return r
}

// size is roughly how much memory a callback takes.
func size(r store.Receipt) int {
	n := 500 + len(r.Body) + len(r.Query)
	for name, value := range r.Header {
		n += len(name) + len(value)
	}
	return n
}

// Take stores a callback. Only after it returns may the gateway be answered,
// with what is returned.
func (r *Receipts) Take(ctx context.Context, gateway, secret string, in dialect.Incoming) (dialect.Answer, error) {
	var g *roster.Gateway
	// A comparison is made in any case, so that a gateway's name cannot be
	// guessed by the clock.
	hmac.Equal([]byte(gateway), []byte(secret))
	for _, called := range r.Course.Roster.Called(gateway) {
		if hmac.Equal([]byte(called.Callback), []byte(secret)) {
			g = called
		}
	}
	if g == nil || g.Dialect.Receipt == nil && g.Dialect.Inbound == nil {
		return dialect.Answer{}, ErrNobody
	}
	rule := g.Dialect.Pushed(in)
	// What is kept for good has its secrets masked. It is read as it came: a
	// secret's value may stand in it by chance.
	raw := store.Keepable(in.Query)
	record := store.Receipt{ID: store.NewID(), GatewayID: g.ID, ReceivedAt: r.Course.Now(), Method: in.Method, Query: g.Mask(raw), Unmasked: raw,
		Header: in.Header, Body: in.Body, Genuine: rule.Proves(in, g.Secrets)}
	if !record.Genuine {
		record.Problem = ErrForged.Error()
	}
	if _, err := r.inbox.Do(ctx, record); err != nil {
		return dialect.Answer{}, err
	}
	if !record.Genuine {
		r.Log.Warn("receipt is not genuine", "gateway", g.Name, "receipt", record.ID)
		return dialect.Answer{}, ErrForged
	}
	r.settler(g.ID).give(record)
	return rule.Answer, nil
}

// settler is what settles the callbacks of a gateway.
func (r *Receipts) settler(gateway uuid.UUID) *settler {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.settlers[gateway]
	if s == nil {
		s = newSettler(r, gateway)
		r.settlers[gateway] = s
	}
	return s
}

// Run stores and settles until ctx ends.
func (r *Receipts) Run(ctx context.Context) {
	r.running.Go(func() { r.inbox.Run(ctx) })
	r.running.Go(func() { r.lookForStrays(ctx) })
	defer r.running.Wait()
	tick := time.NewTicker(time.Second) // for what other instances stored, and what was too much
	defer tick.Stop()
	said := time.Time{}
	for {
		r.start(ctx)
		waiting, err := r.Course.Store.UnreadGateways(ctx, time.Now().Add(-leftover))
		if err != nil && ctx.Err() == nil && time.Since(said) > 10*time.Second {
			said = time.Now()
			r.Log.Error("looking for receipts to settle", "error", err)
		}
		for _, gateway := range waiting {
			r.settler(gateway).left.Now()
		}
		r.start(ctx)
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// start starts the settlers that do not run yet.
func (r *Receipts) start(ctx context.Context) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range r.settlers {
		if !s.started {
			s.started = true
			r.running.Go(func() { s.run(ctx) })
		}
	}
}
