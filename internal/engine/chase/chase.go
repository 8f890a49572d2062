// Package chase looks after messages that stay silent: it asks about them,
// resolves doubt, and closes what is too late.
package chase

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

const (
	lateMost   = 500
	silentMost = 40
	asksAtOnce = 8
	pause      = 250 * time.Millisecond
)

// Chase looks after silent messages.
type Chase struct {
	Course  *course.Course
	Courier *courier.Courier
	Log     *slog.Logger
}

// Run looks after messages until ctx ends: those of each gateway by
// themselves, so that one that does not answer holds up no other.
func (c *Chase) Run(ctx context.Context) {
	var loops sync.WaitGroup
	defer loops.Wait()
	known := map[uuid.UUID]bool{}
	c.every(ctx, func() (bool, error) {
		for _, g := range c.Course.Roster.All() {
			if !known[g.ID] {
				known[g.ID] = true
				loops.Go(func() {
					c.every(ctx, func() (bool, error) { return c.look(ctx, g) })
				})
			}
		}
		return c.closeLate(ctx)
	})
}

// every does a round again and again: at once while there is more, else after
// a pause.
func (c *Chase) every(ctx context.Context, round func() (more bool, err error)) {
	tick := time.NewTicker(pause)
	defer tick.Stop()
	for ctx.Err() == nil {
		more, err := round()
		if err != nil && ctx.Err() == nil {
			c.Log.Error("looking after silent messages", "error", err)
		}
		if more && err == nil {
			continue
		}
		select {
		case <-ctx.Done():
		case <-tick.C:
		}
	}
}

// closeLate expires what was not sent within its validity. What may have gone
// all the same, because an earlier try is in doubt, is not said to be expired.
func (c *Chase) closeLate(ctx context.Context) (more bool, err error) {
	var evidence []store.Evidence
	err = c.Course.Store.Transact(ctx, func(s *store.Store) error {
		now := c.Course.Now()
		late, known, err := s.TooLate(ctx, now, lateMost)
		if err != nil {
			return err
		}
		more = len(late) == lateMost
		for i, m := range late {
			e := course.ByClock(m, now, delivery.Expired, delivery.TooLate, "its validity ended before it could go")
			if known[i].MayHaveGone {
				e = course.ByClock(m, now, delivery.Unknown, "", "its validity ended before it could go again, and an earlier try is in doubt")
			}
			evidence = append(evidence, e)
		}
		return c.Course.Record(ctx, s, evidence, nil)
	})
	if err == nil && len(evidence) > 0 {
		c.Course.Announce(evidence)
	}
	return more, err
}

// look takes a gateway's messages that are due to be looked after, and does
// for each what can be done. A crash in between delays them by the lease.
func (c *Chase) look(ctx context.Context, g *roster.Gateway) (more bool, err error) {
	now := c.Course.Now()
	lease := g.Timeout()*silentMost/asksAtOnce + 5*time.Second
	silent, err := c.Course.Store.TakeSilent(ctx, g.ID, now, lease, silentMost)
	if err != nil || len(silent) == 0 {
		return false, err
	}
	var found finding
	var asking sync.WaitGroup
	gate := make(chan struct{}, asksAtOnce)
	for i := range silent {
		m := &silent[i]
		over := m.GiveUpAt != nil && !now.Before(*m.GiveUpAt)
		switch {
		case !over && m.State == delivery.Doubtful && course.MayResubmit(m, g, now):
			note := "goes again: the gateway takes a reference twice for one message"
			if !g.Dialect.HonoursReference() {
				note = "goes again: a passcode twice harms nobody"
			}
			found.add(nil, course.Own(*m, now, delivery.Queued, m.Attempts, note))
		case g.Dialect.CanAsk(m.GatewayRef):
			gate <- struct{}{}
			asking.Go(func() {
				defer func() { <-gate }()
				c.ask(ctx, g, m, over, &found)
			})
		case over:
			found.add(nil, giveUp(m, now))
		}
	}
	asking.Wait()
	err = c.Course.Store.Transact(ctx, func(s *store.Store) error {
		// First when to look again, should nothing change; then what was
		// found, which plans anew what it moves.
		now := c.Course.Now()
		for i := range silent {
			m := &silent[i]
			m.AskAt = m.GiveUpAt
			if g.Dialect.CanAsk(m.GatewayRef) {
				m.AskAt = course.AskAgain(m, g, now)
			}
			m.Asks++
		}
		if err := s.Postpone(ctx, silent); err != nil {
			return err
		}
		if err := s.StoreExchanges(ctx, found.exchanges); err != nil {
			return err
		}
		return c.Course.Record(ctx, s, found.evidence, resubmitNow(found.evidence))
	})
	if err == nil {
		c.Course.Announce(found.evidence)
	}
	return len(silent) == silentMost, err
}

// ask makes a status query. When the time is over it is the last one: unless
// it brings the end, the message is given up.
func (c *Chase) ask(ctx context.Context, g *roster.Gateway, m *store.Message, last bool, found *finding) {
	request, err := g.Dialect.QueryRequest(dialect.Message{ID: m.ID.String(), GatewayRef: m.GatewayRef}, g.Secrets)
	if err != nil {
		c.Log.Error("building a status query", "gateway", g.Name, "error", err)
		if last {
			found.add(nil, giveUp(m, c.Course.Now()))
		}
		return
	}
	reply, fate, exchange := c.Courier.Carry(ctx, g, "query", request)
	at := c.Course.Now()
	e := store.Evidence{ID: store.NewID(), MessageID: m.ID, At: at, Source: delivery.Query, Attempt: m.Attempts, GatewayID: &m.GatewayID, ExchangeID: &exchange.ID}
	if fate == courier.Answered {
		understand(&e, m, g.Dialect.ReadQuery(reply, at))
	} else {
		e.Note = "asked: " + exchange.Error
	}
	if last && !e.Claim.Final() {
		found.add(&exchange, e, giveUp(m, at))
		return
	}
	found.add(&exchange, e)
}

func giveUp(m *store.Message, now time.Time) store.Evidence {
	return course.ByClock(*m, now, delivery.Unknown, "", "the time in which anyone might have told us is over")
}

// resubmitNow lets what may be submitted again go without a further pause; it
// has waited for its answer.
func resubmitNow(evidence []store.Evidence) course.Plan {
	waits := course.Plan{}
	for _, e := range evidence {
		if e.Claim == delivery.Queued {
			waits[e.MessageID] = 0
		}
	}
	return waits
}

// finding collects what was found out; queries run at the same time.
type finding struct {
	mu        sync.Mutex
	evidence  []store.Evidence
	exchanges []store.Exchange
}

func (f *finding) add(exchange *store.Exchange, evidence ...store.Evidence) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.evidence = append(f.evidence, evidence...)
	if exchange != nil {
		f.exchanges = append(f.exchanges, *exchange)
	}
}

// understand makes evidence of the answer to a status query.
func understand(e *store.Evidence, m *store.Message, reading dialect.Reading) {
	switch reading.Meaning {
	case dialect.Read:
		course.Said(e, delivery.Query, reading.Items[0])
	case dialect.Absent:
		e.Note = "the gateway knows no such message"
		if m.State == delivery.Doubtful {
			e.Claim = delivery.Queued // it was not taken, so it may go
		}
	case dialect.NotTaken:
		e.Note = "the query was refused: " + string(reading.Cause)
	case dialect.Unreadable:
		e.Note = "the answer cannot be read: " + reading.Note
	}
}
