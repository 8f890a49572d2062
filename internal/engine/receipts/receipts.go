// Package receipts takes callbacks in, finds the messages they speak of, and
// settles strays.
package receipts

import (
	"context"
	"crypto/hmac"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/gather"
	"calmpigeon.example/internal/engine/guard"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/strays"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/store"
)

// Errors of [Receipts.Take].
var (
	ErrNobody = errors.New("no gateway has this address")
	ErrForged = errors.New("the receipt does not prove that it comes from the gateway")
)

// limits bound what is settled as one set.
var limits = gather.Limits{Rows: settleMost, Bytes: 4 << 20, Linger: 5 * time.Millisecond}

// Leftover is how old a callback is that whoever took it has forgotten: they
// ended, or had too many.
const Leftover = 2 * time.Second

// Receipts takes and settles callbacks.
type Receipts struct {
	kit.Kit
	Course *course.Course
	Intake *intake.Intake
	Strays *strays.Strays

	forged *gather.Gather[store.Receipt, struct{}] // are kept, and not read
	look   watch.Kick                              // there are some whose message is to be looked for

	mu       sync.Mutex
	ctx      context.Context // of Run; nil before
	settlers map[uuid.UUID]*settler
	running  sync.WaitGroup
}

// New makes it ready to take callbacks once it runs.
func New(k kit.Kit, c *course.Course, in *intake.Intake, astray *strays.Strays) *Receipts {
	r := &Receipts{Kit: k, Course: c, Intake: in, Strays: astray, look: watch.NewKick(), settlers: map[uuid.UUID]*settler{}}
	r.forged = gather.New(limits, bulk, func(ctx context.Context, set []store.Receipt) ([]struct{}, error) {
		return make([]struct{}, len(set)), c.Store.StoreReceipts(ctx, set)
	})
	return r
}

func bulk(one store.Receipt) (rows, bytes int) { return 1, size(one) }

// size is roughly how much memory a callback takes.
func size(r store.Receipt) int {
	n := 500 + len(r.Body) + len(r.Query)
	for name, value := range r.Header {
		n += len(name) + len(value)
	}
	if r.Came != nil { // as long again
		n *= 2
	}
	return n
}

// Of is the gateway whose callbacks come to an address, told by its name and the
// secret in it. Ask before anything of the request is read.
func (r *Receipts) Of(gateway, secret string) (g *roster.Gateway, err error) {
	// A comparison is made in any case, so that a gateway's name cannot be
	// guessed by the clock.
	hmac.Equal([]byte(gateway), []byte(secret))
	for _, called := range r.Roster.Called(gateway) {
		if hmac.Equal([]byte(called.Callback), []byte(secret)) {
			g = called
		}
	}
	if g == nil || g.Dialect.Receipt == nil && g.Dialect.Inbound == nil {
		return nil, ErrNobody
	}
	return g, nil
}

// Take stores a callback of a gateway. Only after it returns may the gateway be
// answered, with what is returned.
func (r *Receipts) Take(ctx context.Context, g *roster.Gateway, in dialect.Incoming) (dialect.Answer, error) {
	rule := g.Dialect.Pushed(in)
	now := r.Now()
	record := masked(g, rule, in)
	record.ID, record.ReceivedAt, record.Genuine = store.IDAt(now), now, rule.Proves(in, g.Secrets)
	if !record.Genuine {
		record.Problem = ErrForged.Error()
		if _, err := r.forged.Do(ctx, record); err != nil {
			return dialect.Answer{}, err
		}
		r.Log.Warn("receipt is not genuine", "gateway", g.Name, "receipt", record.ID)
		return dialect.Answer{}, ErrForged
	}
	return rule.Answer, r.settler(g.ID).take(ctx, record, rule == g.Dialect.Inbound)
}

// masked is a callback as it is kept for good: its secrets are masked, and so is
// what proves it. It is read as it came: a secret's value may stand in it by
// chance.
func masked(g *roster.Gateway, rule *dialect.PushRule, in dialect.Incoming) store.Receipt {
	came := &store.Came{Query: store.Keepable(in.Query), Header: in.Header, Body: in.Body}
	kept := store.Receipt{
		GatewayID: g.ID,
		Method:    in.Method,
		Query:     g.Mask(came.Query),
		Header:    make(map[string]string, len(in.Header)),
		Body:      in.Body,
	}
	changed := kept.Query != came.Query
	for name, value := range in.Header {
		kept.Header[name] = g.Mask(value)
		if rule.ProvedBy(name) {
			kept.Header[name] = "‹proof›"
		}
		changed = changed || kept.Header[name] != value
	}
	if body := g.Mask(string(in.Body)); body != string(in.Body) {
		kept.Body, changed = []byte(body), true
	}
	if changed {
		kept.Came = came
	}
	return kept
}

// settler is what settles the callbacks of a gateway. It begins when the first
// one comes.
func (r *Receipts) settler(gateway uuid.UUID) *settler {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.settlers[gateway]
	if s == nil {
		s = newSettler(r, gateway)
		r.settlers[gateway] = s
	}
	if r.ctx != nil && !s.started {
		s.started = true
		r.running.Go(func() { s.fresh.Run(r.ctx) })
		r.running.Go(func() { s.replies.Run(r.ctx) })
		r.running.Go(func() { guard.Restart(r.ctx, r.Log, "settling receipts", s.run) })
	}
	return s
}

// Run stores and settles until ctx ends.
func (r *Receipts) Run(ctx context.Context) {
	r.mu.Lock()
	r.ctx = ctx
	known := slices.Collect(maps.Keys(r.settlers))
	r.mu.Unlock()
	for _, gateway := range known {
		r.settler(gateway)
	}
	r.running.Go(func() { r.forged.Run(ctx) })
	r.running.Go(func() { guard.Restart(ctx, r.Log, "looking for the messages of strays", r.lookForStrays) })
	defer r.running.Wait()
	<-ctx.Done()
}

// Wake says which gateways have callbacks that others stored and nobody has read,
// and whether there are strays whose message is to be looked for.
func (r *Receipts) Wake(unread []uuid.UUID, look bool) {
	for _, gateway := range unread {
		r.settler(gateway).left.Now()
	}
	if look {
		r.look.Now()
	}
}
