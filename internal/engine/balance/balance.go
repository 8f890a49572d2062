// Package balance asks gateways now and then what is left on their accounts.
package balance

import (
	"cmp"
	"context"
	"sync"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/guard"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/engine/roster"
)

// emptyEvery is how often a gateway without credit is asked: whoever tops it up
// waits for it.
const emptyEvery = 15 * time.Second

// Watch asks gateways for their balance.
type Watch struct {
	kit.Kit
	Courier *courier.Courier
	Every   time.Duration // between two questions
}

// Run asks until ctx ends. Of all instances one asks.
func (w *Watch) Run(ctx context.Context) {
	tick := time.NewTicker(min(w.Every, 2*time.Second))
	defer tick.Stop()
	for {
		var asking sync.WaitGroup
		for _, g := range w.Roster.All() {
			if g.Dialect.Balance != nil && w.Gate.Open() {
				asking.Go(func() {
					if err := guard.Try(func() error { return w.ask(ctx, g) }); err != nil && ctx.Err() == nil {
						w.Log.Error("watching a balance", "gateway", g.Name, "error", err)
					}
				})
			}
		}
		asking.Wait()
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

func (w *Watch) ask(ctx context.Context, g *roster.Gateway) error {
	now := w.Now()
	every := w.Every
	if h := w.Roster.Health(g.ID); h.RestCause == delivery.NoCredit {
		every = min(every, emptyEvery)
	}
	may, err := w.Store.MayAskBalance(ctx, g.ID, now, now.Add(-every))
	if err == nil && may {
		var why string
		var left *dialect.Amount
		if left, why = w.left(ctx, g); left != nil {
			err = w.Store.NoteBalance(ctx, g.ID, left.Micros, cmp.Or(left.Currency, g.Currency), w.Now())
		} else if ctx.Err() == nil {
			err = w.Store.NoteNoBalance(ctx, g.ID, why)
		}
	}
	return err
}

// left asks what is left; nil if that cannot be had, and why.
func (w *Watch) left(ctx context.Context, g *roster.Gateway) (*dialect.Amount, string) {
	means, _, err := w.Courier.Means(ctx, g)
	if err != nil {
		return nil, err.Error()
	}
	request, err := g.Dialect.BalanceRequest(means)
	if err != nil {
		return nil, g.Mask(err.Error())
	}
	reply, fate, exchange := w.Courier.Carry(ctx, g, "balance", request)
	if fate != courier.Answered {
		return nil, exchange.Error
	}
	reading := g.Dialect.ReadBalance(reply, w.Now())
	switch {
	case reading.Balance != nil:
		return reading.Balance, ""
	case reading.Meaning == dialect.NotTaken:
		if token := means.Secrets["token"]; token != "" && reading.Cause == delivery.CredentialsRefused {
			w.Courier.DropToken(g, token)
		}
		return nil, string(reading.Cause)
	}
	return nil, g.Mask(reading.Note)
}
