// Package chase looks after messages that stay silent: it asks about them,
// resolves doubt, and closes what is too late.
package chase

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/dispatch"
	"calmpigeon.example/internal/store"
)

const (
	setMost    = 200
	asksAtOnce = 8
	// lease is how long a message that is being asked about is left alone by
	// others; a crash delays its next query by as much.
	lease = 20 * time.Second
)

// Chase looks after silent messages.
type Chase struct {
	Course  *course.Course
	Courier *courier.Courier
	Log     *slog.Logger
}

// Run looks after messages until ctx ends.
func (c *Chase) Run(ctx context.Context) {
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	for {
		for _, round := range []func(context.Context) (bool, error){c.closeLate, c.look} {
			for more := true; more && ctx.Err() == nil; {
				var err error
				if more, err = round(ctx); err != nil && ctx.Err() == nil {
					c.Log.Error("looking after silent messages", "error", err)
					break
				}
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// closeLate expires what was not sent within its validity.
func (c *Chase) closeLate(ctx context.Context) (more bool, err error) {
	var evidence []store.Evidence
	err = c.Course.Store.Transact(ctx, func(s *store.Store) error {
		now := c.Course.Now()
		late, err := s.TooLate(ctx, now, setMost)
		if err != nil {
			return err
		}
		more = len(late) == setMost
		for _, m := range late {
			evidence = append(evidence, course.ByClock(m, now, delivery.Expired, delivery.TooLate, "its validity ended before it could go"))
		}
		return c.Course.Record(ctx, s, evidence, nil)
	})
	if err == nil && len(evidence) > 0 {
		c.Course.Announce(evidence)
	}
	return more, err
}

// look takes the messages that are due to be looked after.
func (c *Chase) look(ctx context.Context) (bool, error) {
	now := c.Course.Now()
	silent, err := c.Course.Store.TakeSilent(ctx, now, lease, setMost)
	if err != nil || len(silent) == 0 {
		return false, err
	}
	var found finding
	var asking sync.WaitGroup
	gate := make(chan struct{}, asksAtOnce)
	for i := range silent {
		m := &silent[i]
		g := c.Course.Roster.ByID(m.GatewayID)
		if g == nil {
			continue
		}
		switch {
		case m.GiveUpAt != nil && !now.Before(*m.GiveUpAt):
			found.add(course.ByClock(*m, now, delivery.Unknown, "", "the time in which anyone might have told us is over"), nil)
		case m.State == delivery.Doubtful && course.MayResubmit(m, g, now):
			note := "to be submitted again: the gateway takes the same reference twice for one message"
			if !g.Dialect.HonoursReference() {
				note = "to be submitted again: a passcode twice harms nobody"
			}
			found.add(course.Own(*m, now, delivery.Queued, m.Attempts, note), nil)
		case g.Dialect.CanAsk(m.GatewayRef):
			gate <- struct{}{}
			asking.Go(func() {
				defer func() { <-gate }()
				request, err := g.Dialect.QueryRequest(dialect.Message{ID: m.ID.String(), GatewayRef: m.GatewayRef}, g.Secrets)
				if err != nil {
					c.Log.Error("building a status query", "gateway", g.Name, "error", err)
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
				found.add(e, &exchange)
			})
		}
	}
	asking.Wait()
	err = c.Course.Store.Transact(ctx, func(s *store.Store) error {
		// First when to look again, should nothing change; then what was
		// found, which plans anew what it moves.
		now := c.Course.Now()
		for i := range silent {
			m := &silent[i]
			g := c.Course.Roster.ByID(m.GatewayID)
			if g == nil {
				m.AskAt = nil
				continue
			}
			if g.Dialect.CanAsk(m.GatewayRef) {
				m.AskAt = course.AskAgain(m, g, now)
			} else {
				m.AskAt = m.GiveUpAt
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
	return len(silent) == setMost, err
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

func (f *finding) add(e store.Evidence, exchange *store.Exchange) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.evidence = append(f.evidence, e)
	if exchange != nil {
		f.exchanges = append(f.exchanges, *exchange)
	}
}

// understand makes evidence of the answer to a status query.
func understand(e *store.Evidence, m *store.Message, reading dialect.Reading) {
	switch reading.Meaning {
	case dialect.Read:
		dispatch.Claim(e, delivery.Query, reading.Items[0])
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
