// Package course is the one way in which evidence enters: it is added, the
// message is folded anew, and what is to be done next is planned, all in one
// transaction.
package course

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/store"
)

// The pauses between tries.
var (
	// Retry spaces the submissions of a message that was not taken.
	Retry = pace.Backoff{First: time.Second, Most: time.Minute}
	// longestAsk is the longest pause between two status queries.
	longestAsk = 6 * time.Hour
)

const (
	// doubtPause lets a reply that is merely late come in before a doubtful
	// message is submitted again with a reference that the gateway honours.
	doubtPause = time.Second
	// doubtAsk is the longest wait before a doubtful message is asked about.
	doubtAsk = 30 * time.Second
	// doubtEnd is when a doubtful message that cannot be asked about becomes
	// unknown and is shown to a person.
	doubtEnd = 15 * time.Minute
)

// Course records evidence.
type Course struct {
	Store  *store.Store
	Roster *roster.Roster
	Hub    *watch.Hub
	Now    func() time.Time
	// Due rings for the gateway of a message that may be ready to be sent.
	Due *watch.Bells
}

// Plan is what is to be done with particular messages, where it does not
// follow from their state.
type Plan map[uuid.UUID]Step

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
	plan Plan,
	seen ...store.Message,
) ([]store.Message, error) {
	now := c.Now()
	var moving []uuid.UUID
	for id, step := range plan {
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
			c.plan(before, after, known, now, plan[after.ID], contents[after.ID])
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
		c.plan(before, after, known, now, Step{}, store.Content{})
	})
}

// Announce tells who waits that what is known of messages has been committed.
func (c *Course) Announce(messages []store.Message) {
	ids := make([]uuid.UUID, len(messages))
	for i, m := range messages {
		ids[i] = m.ID
		if m.State == delivery.Queued {
			c.Due.Ring(m.GatewayID, m.Lane == pace.OTP.Lane())
		}
	}
	c.Hub.Changed(ids...)
}

// plan sets what is to be done next, and when.
func (c *Course) plan(before, m *store.Message, known delivery.Outcome, now time.Time, step Step, content store.Content) {
	in := func(d time.Duration) *time.Time { t := now.Add(d); return &t }
	// What may have gone through one gateway goes through no other: that would
	// be twice. A passcode twice harms nobody.
	elsewhere := m.State == delivery.Queued && step.Gateway != uuid.Nil && (!known.MayHaveGone || m.Kind == string(pace.OTP))
	if elsewhere {
		m.GatewayID = step.Gateway
		c.price(m, content, now)
	}
	moved := before.State != m.State || before.Attempts != m.Attempts
	g := c.Roster.ByID(m.GatewayID)
	if !moved && elsewhere {
		m.DueAt = now
	}
	if !moved || g == nil {
		return
	}
	if before.Attempts != m.Attempts || m.GiveUpAt == nil { // the last submission counts
		m.GiveUpAt = in(g.GiveUpAfter())
	}
	planned := m.AskAt
	m.Asks, m.AskAt = 0, nil
	switch {
	case m.State.Final():
	case m.State == delivery.Sending:
		// When it is asked about, should it be taken: most are, and then nothing
		// has to be written again.
		m.AskAt = m.GiveUpAt
		if g.Dialect.Query != nil {
			m.AskAt = earlier(in(g.AskAfter()), m.GiveUpAt)
		}
	case m.State == delivery.Queued:
		wait := Retry.Wait(max(m.Attempts, 1), rand.Float64())
		if step.Wait != nil {
			wait = *step.Wait
		}
		m.DueAt = now.Add(wait)
	case m.State == delivery.Doubtful:
		switch {
		case !known.Refused && MayResubmit(m, g, now):
			m.AskAt = earlier(in(doubtPause), m.GiveUpAt)
		case g.Dialect.CanAsk(m.GatewayRef):
			m.AskAt = earlier(in(doubtWait(g)), m.GiveUpAt)
		default:
			m.GiveUpAt = earlier(in(doubtEnd), m.GiveUpAt)
			m.AskAt = m.GiveUpAt
		}
	case m.State == delivery.Accepted || m.State == delivery.Enroute:
		m.AskAt = m.GiveUpAt
		switch {
		case !g.Dialect.CanAsk(m.GatewayRef):
		case before.State == delivery.Sending && planned != nil:
			m.AskAt = planned
		default:
			m.AskAt = earlier(in(g.AskAfter()), m.GiveUpAt)
		}
	}
}

// doubtWait is the wait before a doubtful message is asked about: the gateway
// may still be at work on the request whose answer was lost, and "no such
// message" is only worth something once it is not.
func doubtWait(g *roster.Gateway) time.Duration {
	return min(max(3*g.Timeout(), g.AskAfter()), doubtAsk)
}

// price works out what a message costs through the gateway that it goes through
// now.
func (c *Course) price(m *store.Message, content store.Content, now time.Time) {
	m.PriceMicros, m.Currency = nil, ""
	rate, ok := c.Roster.Book().Prices(m.GatewayID).List.Find(phone.Stored(content.ToNumber), content.Country, pace.Kind(content.Kind), now)
	if !ok {
		return
	}
	if cost, ok := rate.Cost(content.Segments); ok {
		micros := cost.Micros()
		m.PriceMicros, m.Currency = &micros, cost.Currency()
	}
}

// AskAgain is when to ask about a message the next time.
func AskAgain(m *store.Message, g *roster.Gateway, now time.Time) *time.Time {
	wait := pace.Backoff{First: g.AskAfter(), Most: longestAsk}.Wait(m.Asks+1, rand.Float64())
	at := now.Add(wait)
	return earlier(&at, m.GiveUpAt)
}

func earlier(a, b *time.Time) *time.Time {
	if b != nil && b.Before(*a) {
		return b
	}
	return a
}

// MayResubmit reports whether a doubtful message may be submitted again: with
// a reference that the gateway honours the same message twice is one; a
// passcode twice harms nobody. Both only while the message is of use.
func MayResubmit(m *store.Message, g *roster.Gateway, now time.Time) bool {
	return now.Before(m.ValidUntil) && (g.Dialect.HonoursReference() || m.Kind == string(pace.OTP))
}

// ErrGone is returned for what can no longer be withdrawn.
var ErrGone = errors.New("the message is not waiting any more")

// Cancel withdraws a message that still waits to be sent. What a gateway may
// have already cannot be called back: [ErrGone].
func (c *Course) Cancel(ctx context.Context, id uuid.UUID, by string) error {
	var changed []store.Message
	err := c.Store.Transact(ctx, func(s *store.Store) error {
		// While it is locked no keeper can claim it.
		m, err := s.Hold(ctx, id)
		if err != nil {
			return err
		}
		if m.State != delivery.Queued && m.State != delivery.Held {
			return fmt.Errorf("message %s is %s: %w", id, m.State, ErrGone)
		}
		if m.Known().MayHaveGone {
			return fmt.Errorf("message %s waits to go again, and may have gone already: %w", id, ErrGone)
		}
		e := Own(m, c.Now(), delivery.Cancelled, m.Attempts, "withdrawn with the key "+by)
		e.Source = delivery.Operator
		changed, err = c.Record(ctx, s, []store.Evidence{e}, nil)
		return err
	})
	if err == nil {
		c.Announce(changed)
	}
	return err
}

// Own is evidence of an act of ours.
func Own(m store.Message, now time.Time, claim delivery.State, attempt int, note string) store.Evidence {
	return store.Evidence{ID: store.IDAt(now), MessageID: m.ID, At: now, Source: delivery.Own, Claim: claim,
		Attempt: attempt, Note: note, GatewayID: &m.GatewayID}
}

// ByClock is evidence that a time is over.
func ByClock(m store.Message, now time.Time, claim delivery.State, cause delivery.Cause, note string) store.Evidence {
	return store.Evidence{ID: store.IDAt(now), MessageID: m.ID, At: now, Source: delivery.Clock, Claim: claim, Cause: cause,
		Attempt: m.Attempt, Note: note, GatewayID: &m.GatewayID}
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
		b.ChargeMicros, b.ChargeCurrency = &item.Charge.Micros, cmp.Or(item.Charge.Currency, currency)
	}
	return b
}

// Elsewhere finds another gateway of a message's route that may be used now:
// the next in order, or one before. next is true if it comes after the one that
// the message is queued for. It is nil if there is none.
func (c *Course) Elsewhere(m *store.Message, now time.Time) (g *roster.Gateway, next bool) {
	book := c.Roster.Book()
	r, ok := book.RouteNamed(m.Route)
	if !ok {
		return nil, false
	}
	order := r.Order(m.ID.String())
	here := -1
	if g := c.Roster.ByID(m.GatewayID); g != nil {
		here = slices.Index(order, g.Name)
	}
	for i := range order {
		at := (here + 1 + i) % len(order)
		g := c.Roster.ByName(order[at])
		if g == nil || g.ID == m.GatewayID || g.Silent(c.Roster.Health(g.ID), now) != "" || !book.MaySend(m.Sender, g.Name) ||
			g.Refuses(
				dialect.Case{
					Kind:       pace.Kind(m.Kind),
					Country:    m.Country,
					Sender:     m.Sender,
					Registered: m.Registration != "",
					Flash:      m.Flash,
				},
			) != "" {
			continue
		}
		return g, at > here
	}
	return nil, false
}
