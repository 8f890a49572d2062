// Package course is the one way in which evidence enters: it is added, the
// message is folded anew, and what is to be done next is planned, all in one
// transaction.
package course

import (
	"cmp"
	"context"
	"math/rand/v2"
	"strings"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/schedule"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// Course records evidence.
type Course struct{ kit.Kit }

// Steps are what is to be done with particular messages, where it does not
// follow from their state.
type Steps map[uuid.UUID]Step

// Step is what is to be done with a message that is to be sent.
type Step struct {
	Wait    *time.Duration // before trying again; nil: as usual
	Gateway uuid.UUID      // to go through from now on; nil: the same
}

// Record adds evidence and plans what comes next, and returns the messages as
// they are now. It is one transaction, part of the one that s is bound to if it
// is. Messages that were read or changed a moment ago may be given in seen, and
// are not read again unless they have moved since.
func (c *Course) Record(
	ctx context.Context,
	s *store.Store,
	evidence []store.Evidence,
	steps Steps,
	seen ...store.Message,
) ([]store.Message, error) {
	now := c.Now()
	var moving []uuid.UUID
	for id, step := range steps {
		if step.Gateway != uuid.Nil {
			moving = append(moving, id)
		}
	}
	var messages []store.Message
	err := s.Transact(ctx, func(s *store.Store) error {
		contents, err := s.Contents(ctx, moving)
		if err != nil {
			return err
		}
		messages, err = s.Append(ctx, now, seen, evidence, func(before, after *store.Message, known delivery.Outcome) {
			c.next(before, after, known, now, steps[after.ID], contents[after.ID])
		})
		return err
	})
	return messages, err
}

// RecordClaimed is Record for messages that were claimed in the transaction that
// s is bound to. They are changed to what they are now.
func (c *Course) RecordClaimed(ctx context.Context, s *store.Store, messages []store.Message, evidence []store.Evidence) error {
	now := c.Now()
	return s.AppendTo(ctx, now, messages, evidence, func(before, after *store.Message, known delivery.Outcome) {
		c.next(before, after, known, now, Step{}, store.Content{})
	})
}

// Unfold makes messages of rows of a batch, those that are to go at once as ones that are on
// their way already; see [store.Store.Unfold].
func (c *Course) Unfold(
	ctx context.Context, s *store.Store, now time.Time, f store.Feed, next int, set []store.Acceptance, counted []store.Waiting,
) error {
	return s.Unfold(ctx, now, f, next, set, counted, func(before, after *store.Message, known delivery.Outcome) {
		c.next(before, after, known, now, Step{}, store.Content{})
	})
}

// Announce tells who waits that what is known of messages has been committed.
func (c *Course) Announce(messages []store.Message) {
	ids := make([]uuid.UUID, len(messages))
	for i, m := range messages {
		ids[i] = m.ID
		if m.State == delivery.Queued {
			c.Bells.Ring(m.GatewayID, m.Lane == pace.OTP.Lane())
		}
	}
	c.Hub.Changed(ids...)
}

// next sets what is to be done next, and when.
func (c *Course) next(before, m *store.Message, known delivery.Outcome, now time.Time, step Step, content store.Content) {
	// What may have gone through one gateway goes through no other: that would
	// be twice. A passcode twice harms nobody.
	elsewhere := m.State == delivery.Queued && step.Gateway != uuid.Nil && (!known.MayHaveGone || m.Kind == pace.OTP)
	if elsewhere {
		m.GatewayID = step.Gateway
		m.Reprice(c.Roster.Book().Price(m.GatewayID, content, now))
	}
	moved := before.State != m.State || before.Attempts != m.Attempts
	if !moved && elsewhere {
		m.DueAt = now
	}
	g := c.Roster.ByID(m.GatewayID)
	if !moved || g == nil {
		return
	}
	as := Seen(m)
	as.Refused = known.Refused
	m.Times = schedule.Next(
		before.State,
		before.Attempts != m.Attempts,
		as,
		Through(g, m),
		now,
		step.Wait,
		rand.Float64(),
	) // #nosec G404 -- jitter of a pause
}

// Seen is a message as [schedule] sees it.
func Seen(m *store.Message) schedule.Message {
	return schedule.Message{
		State:      m.State,
		Attempts:   m.Attempts,
		Kind:       m.Kind,
		ValidUntil: m.ValidUntil,
		Refused:    m.Known().Refused,
		Times:      m.Times,
	}
}

// Through is the gateway of a message as [schedule] sees it.
func Through(g *roster.Gateway, m *store.Message) schedule.Gateway {
	return schedule.Gateway{
		AskAfter:    g.AskAfterOf(m.Kind),
		GiveUpAfter: g.GiveUpAfter(),
		Timeout:     g.Timeout(),
		Asks:        g.Dialect.Query != nil,
		CanAsk:      g.Dialect.CanAsk(m.GatewayRef),
		Honours:     g.Dialect.HonoursReference(),
	}
}

// Own is evidence of an act of ours.
func Own(m store.Message, now time.Time, claim delivery.State, attempt int, note string) store.Evidence {
	return store.Evidence{ID: store.IDAt(now), MessageID: m.ID, At: now, Source: delivery.Own, Claim: claim,
		Attempt: attempt, Note: note, GatewayID: &m.GatewayID}
}

// OptedOut is evidence that a message is not to go, as its recipient does not want it.
func OptedOut(m store.Message, now time.Time, o store.OptOut) store.Evidence {
	e := Own(m, now, delivery.Rejected, m.Attempt, "not sent: "+WhyOptedOut(o))
	e.Cause = delivery.OptedOut
	return e
}

// WhyOptedOut tells of an opt-out.
func WhyOptedOut(o store.OptOut) string {
	return "the recipient opted out on " + o.Since.UTC().Format(time.DateOnly)
}

// ByClock is evidence that a time is over.
func ByClock(m store.Message, now time.Time, claim delivery.State, cause delivery.Cause, note string) store.Evidence {
	return store.Evidence{ID: store.IDAt(now), MessageID: m.ID, At: now, Source: delivery.Clock, Claim: claim, Cause: cause,
		Attempt: m.Attempt, Note: note, GatewayID: &m.GatewayID}
}

// OfStray is what a stray that has a message says about it. It can be withdrawn.
func OfStray(t store.Stray, now time.Time) store.Evidence {
	note := t.Note
	if t.Why != "" {
		note = strings.TrimLeft(note+". ", ". ") + t.Why
	}
	e := FromReceipt(t, *t.MessageID, t.Attempt, now, note)
	e.Ground, e.Weak = t.On(), t.Fate == store.Weakly
	return e
}

// FromReceipt is what a receipt says about a submission.
func FromReceipt(c store.Stray, message uuid.UUID, attempt int, now time.Time, note string) store.Evidence {
	return store.Evidence{ID: store.IDAt(now), MessageID: message, At: c.At, Source: delivery.Receipt,
		Claim: c.Claim, Cause: c.Cause, Attempt: attempt, Part: c.Part, Parts: c.Parts, GatewayID: &c.GatewayID,
		GatewayRef: c.GatewayRef, Code: c.Code, Note: note, GatewayAt: c.GatewayAt, ReceiptID: &c.ReceiptID, Billed: c.Billed}
}

// Withdrawn is evidence that what rests on a ground counts no more.
func Withdrawn(
	message, gateway uuid.UUID, ground delivery.Ground, now time.Time, source delivery.Source, note string,
) store.Evidence {
	return store.Evidence{
		ID:        store.IDAt(now),
		MessageID: message,
		At:        now,
		Source:    source,
		GatewayID: &gateway,
		Withdraws: ground,
		Note:      note,
	}
}

// Said writes what a gateway said about one message into evidence.
func Said(e *store.Evidence, source delivery.Source, item dialect.Item, currency string) {
	e.Source, e.Claim, e.Cause = source, item.State, item.Cause
	e.GatewayRef, e.Code, e.Note = item.GatewayRef, item.Code, item.Note
	e.Part, e.Parts = item.Part, item.Parts
	e.Billed = Billed(item, currency)
	if !item.At.IsZero() {
		e.GatewayAt = &item.At
	}
}

// Billed is what a gateway says that it counted and charged. currency is that
// of its account, should it not say.
func Billed(item dialect.Item, currency string) store.Billed {
	b := store.Billed{Segments: item.Segments}
	if item.Charge != nil {
		b.ChargeMicros, b.ChargeCurrency = &item.Charge.Micros, cmp.Or(price.CurrencyOf(item.Charge.Currency), currency)
	}
	return b
}
