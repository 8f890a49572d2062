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

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/store"
)

// Errors of [Receipts.Take].
var (
	ErrNobody = errors.New("no gateway has this address")
	ErrForged = errors.New("the receipt does not prove that it comes from the gateway")
)

const (
	settleMost = 300
	// strayEnd is how long the message of a stray is looked for.
	strayEnd = 72 * time.Hour
	// strayPause is the longest pause between two looks.
	strayPause = 10 * time.Minute
)

// Receipts takes and settles callbacks.
type Receipts struct {
	Course *course.Course
	Log    *slog.Logger

	inbox *store.Gather[store.Receipt, struct{}]
	fresh watch.Kick
}

// New makes it ready to take callbacks once it runs.
func New(c *course.Course, log *slog.Logger) *Receipts {
	r := &Receipts{Course: c, Log: log, fresh: watch.NewKick()}
	r.inbox = store.NewGather(300, func(ctx context.Context, set []store.Receipt) ([]struct{}, error) {
		return make([]struct{}, len(set)), c.Store.StoreReceipts(ctx, set)
	})
	return r
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
	now := r.Course.Now()
	record := store.Receipt{ID: store.NewID(), GatewayID: g.ID, ReceivedAt: now, Method: in.Method, Query: g.Mask(in.Query),
		Header: in.Header, Body: in.Body, Genuine: rule.Proves(in, g.Secrets)}
	if record.Body == nil {
		record.Body = []byte{}
	}
	if !record.Genuine {
		record.Problem, record.SettledAt = ErrForged.Error(), &now
	}
	if _, err := r.inbox.Do(ctx, record); err != nil {
		return dialect.Answer{}, err
	}
	if !record.Genuine {
		r.Log.Warn("receipt is not genuine", "gateway", g.Name, "receipt", record.ID)
		return dialect.Answer{}, ErrForged
	}
	r.fresh.Now()
	return rule.Answer, nil
}

// Run stores and settles until ctx ends.
func (r *Receipts) Run(ctx context.Context) {
	var inbox sync.WaitGroup
	inbox.Go(func() { r.inbox.Run(ctx) })
	defer inbox.Wait()
	tick := time.NewTicker(time.Second) // for what other instances stored, and for strays
	defer tick.Stop()
	for {
		for _, round := range []func(context.Context) (bool, error){r.settle, r.settleStrays} {
			for more := true; more && ctx.Err() == nil; {
				var err error
				if more, err = round(ctx); err != nil && ctx.Err() == nil {
					r.Log.Error("settling receipts", "error", err)
					break
				}
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-r.fresh:
		case <-r.Course.Strays:
		case <-tick.C:
		}
	}
}

// settle reads a set of stored callbacks into evidence and strays, in one
// transaction: if it is cut short, they are read again.
func (r *Receipts) settle(ctx context.Context) (more bool, err error) {
	var evidence []store.Evidence
	err = r.Course.Store.Transact(ctx, func(s *store.Store) error {
		taken, err := s.TakeReceipts(ctx, settleMost)
		if err != nil || len(taken) == 0 {
			return err
		}
		more = len(taken) == settleMost
		now := r.Course.Now()
		var claims []store.Stray
		var inbound []store.Inbound
		for i := range taken {
			said, wrote := r.read(&taken[i], now)
			claims = append(claims, said...)
			inbound = append(inbound, wrote...)
		}
		if err := s.AddInbound(ctx, inbound); err != nil {
			return err
		}
		var strays []store.Stray
		if evidence, strays, err = r.sort(ctx, s, claims, now); err != nil {
			return err
		}
		if err := s.AddStrays(ctx, strays); err != nil {
			return err
		}
		if err := r.Course.Record(ctx, s, evidence, nil); err != nil {
			return err
		}
		return s.SettleReceipts(ctx, now, taken)
	})
	if err == nil && len(evidence) > 0 {
		r.Course.Announce(evidence)
	}
	return more, err
}

// read makes claims, or inbound messages, of one callback; what is wrong with
// it is noted in it.
func (r *Receipts) read(receipt *store.Receipt, now time.Time) ([]store.Stray, []store.Inbound) {
	g := r.Course.Roster.ByID(receipt.GatewayID)
	if g == nil {
		receipt.Problem = "its gateway is gone"
		return nil, nil
	}
	unread := func(why string) {
		receipt.Problem = "cannot be read: " + g.Mask(why)
		r.Log.Warn("receipt cannot be read", "gateway", g.Name, "receipt", receipt.ID, "why", g.Mask(why))
	}
	in := dialect.Incoming{Method: receipt.Method, Query: receipt.Query, Header: receipt.Header, Body: receipt.Body}
	if g.Dialect.Inbound != nil && g.Dialect.Pushed(in) == g.Dialect.Inbound {
		arrivals, err := g.Dialect.ReadInbound(in)
		if err != nil {
			unread(err.Error())
			return nil, nil
		}
		inbound := make([]store.Inbound, len(arrivals))
		for i, a := range arrivals {
			inbound[i] = store.Inbound{ID: store.NewID(), GatewayID: g.ID, ReceiptID: receipt.ID, GatewayRef: a.ID, FromNumber: a.From, ToNumber: a.To,
				Text: a.Text, ReceivedAt: receipt.ReceivedAt}
			if !a.At.IsZero() {
				inbound[i].At = &a.At
			}
		}
		return nil, inbound
	}
	reading := g.Dialect.ReadReceipt(in)
	if reading.Meaning != dialect.Read {
		unread(reading.Note)
		return nil, nil
	}
	claims := make([]store.Stray, len(reading.Items))
	for i, item := range reading.Items {
		soon := now.Add(250 * time.Millisecond)
		claims[i] = store.Stray{ID: store.NewID(), GatewayID: g.ID, GatewayRef: item.GatewayRef, Reference: item.Reference,
			At: receipt.ReceivedAt, Claim: item.State, Cause: item.Cause, Part: item.Part, Parts: item.Parts,
			Code: item.Code, Note: item.Note, ReceiptID: receipt.ID, LookAt: &soon, ToNumber: item.To, Billed: course.Billed(item, g.Currency)}
		if !item.At.IsZero() {
			claims[i].GatewayAt = &item.At
		}
	}
	return claims, nil
}

// sort divides claims into evidence about known messages and strays.
func (r *Receipts) sort(ctx context.Context, s *store.Store, claims []store.Stray, now time.Time) ([]store.Evidence, []store.Stray, error) {
	matched, err := s.Match(ctx, claims)
	if err != nil {
		return nil, nil, err
	}
	var evidence []store.Evidence
	var strays []store.Stray
	for _, c := range claims {
		m, ok := matched[c.ID]
		if !ok {
			strays = append(strays, c)
			continue
		}
		note := c.Note
		if wait := now.Sub(c.At); c.Looks > 0 && note == "" {
			note = "came " + wait.Round(time.Millisecond).String() + " before its message was known"
		}
		evidence = append(evidence, store.Evidence{ID: store.NewID(), MessageID: m.ID, At: c.At, Source: delivery.Receipt,
			Claim: c.Claim, Cause: c.Cause, Attempt: m.Attempt, Part: c.Part, Parts: c.Parts, GatewayID: &c.GatewayID,
			GatewayRef: c.GatewayRef, Code: c.Code, Note: note, GatewayAt: c.GatewayAt, ReceiptID: &c.ReceiptID, Billed: c.Billed})
	}
	return evidence, strays, nil
}

// settleStrays looks for the messages of strays whose time to look has come.
func (r *Receipts) settleStrays(ctx context.Context) (more bool, err error) {
	var evidence []store.Evidence
	err = r.Course.Store.Transact(ctx, func(s *store.Store) error {
		now := r.Course.Now()
		taken, err := s.TakeStrays(ctx, now, settleMost)
		if err != nil || len(taken) == 0 {
			return err
		}
		more = len(taken) == settleMost
		for i := range taken {
			taken[i].Looks++
		}
		var still []store.Stray
		if evidence, still, err = r.sort(ctx, s, taken, now); err != nil {
			return err
		}
		waiting := make(map[uuid.UUID]bool, len(still))
		var postponed, settled []uuid.UUID
		for _, stray := range still {
			waiting[stray.ID] = true
			postponed = append(postponed, stray.ID)
		}
		for _, stray := range taken {
			if !waiting[stray.ID] {
				settled = append(settled, stray.ID)
			}
		}
		if err := r.Course.Record(ctx, s, evidence, nil); err != nil {
			return err
		}
		if err := s.DropStrays(ctx, settled); err != nil {
			return err
		}
		return s.PostponeStrays(ctx, now, postponed, strayPause, now.Add(-strayEnd))
	})
	if err == nil && len(evidence) > 0 {
		r.Course.Announce(evidence)
	}
	return more, err
}
