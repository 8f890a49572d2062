package strays

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/belong"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/store"
)

// Errors of what a person does with strays.
var (
	ErrOtherGateway  = errors.New("the message never went through the gateway of the stray")
	ErrTaken         = errors.New("the stray has a message already")
	ErrNothingToUndo = errors.New("nothing was done with the stray that could be taken back")
)

// Missing is what a person wants to settle and is not there.
type Missing struct {
	What string // stray, or message
	ID   uuid.UUID
}

func (m *Missing) Error() string { return fmt.Sprintf("there is no %s %s", m.What, m.ID) }

// Unwrap makes it [store.ErrNotFound].
func (m *Missing) Unwrap() error { return store.ErrNotFound }

// Most is how many strays can be settled at once by hand.
const Most = 1000

// hold locks strays to settle them by hand; what is not there is an error that names it.
func (s *Strays) hold(ctx context.Context, tx *store.Store, ids []uuid.UUID) ([]store.Stray, error) {
	ids = slices.Clone(ids)
	slices.SortFunc(ids, func(a, b uuid.UUID) int { return slices.Compare(a[:], b[:]) })
	ids = slices.Compact(ids)
	held, err := tx.HoldStrays(ctx, ids)
	if err != nil {
		return nil, err
	}
	for _, id := range ids {
		if !slices.ContainsFunc(held, func(t store.Stray) bool { return t.ID == id }) {
			return nil, &Missing{"stray", id}
		}
	}
	return held, nil
}

// settling locks strays, lets do say what becomes of them, and records it, in one transaction.
func (s *Strays) settling(
	ctx context.Context, ids []uuid.UUID, do func(tx *store.Store, held []store.Stray, now time.Time) ([]store.Evidence, error),
) error {
	var changed []store.Message
	err := s.Store.Transact(ctx, func(tx *store.Store) error {
		held, err := s.hold(ctx, tx, ids)
		if err != nil {
			return err
		}
		evidence, err := do(tx, held, s.Now())
		if err != nil {
			return err
		}
		changed, err = s.Course.Record(ctx, tx, evidence, nil)
		return err
	})
	if err == nil {
		s.Course.Announce(changed)
	}
	return err
}

// Attach says that strays belong to a message, to the last submission of it through their gateway. A
// weak match with another one is withdrawn.
func (s *Strays) Attach(ctx context.Context, ids []uuid.UUID, message uuid.UUID, by, why string) error {
	return s.settling(ctx, ids, func(tx *store.Store, held []store.Stray, now time.Time) ([]store.Evidence, error) {
		switch _, err := tx.Hold(ctx, message); {
		case errors.Is(err, store.ErrNotFound):
			return nil, &Missing{"message", message}
		case err != nil:
			return nil, err
		}
		began, err := tx.Through(ctx, message)
		if err != nil {
			return nil, err
		}
		ground := int64(store.GroundOf(store.NewID())) // #nosec G115 -- told apart, not counted
		last := map[uuid.UUID]int{}                    // submission through each gateway
		for _, b := range began {
			last[b.GatewayID] = max(last[b.GatewayID], b.Attempt)
		}
		for _, t := range held {
			switch {
			case t.Fate == store.Attached:
				return nil, fmt.Errorf("stray %s: %w, by decision: take that back first", t.ID, ErrTaken)
			case last[t.GatewayID] == 0:
				return nil, fmt.Errorf("stray %s: %w", t.ID, ErrOtherGateway)
			}
		}
		evidence, err := s.loosen(ctx, tx, held, now, "it belongs to another message, "+said(by, why))
		if err != nil {
			return nil, err
		}
		for i := range held {
			t := &held[i]
			t.Fate, t.Ground, t.MessageID, t.Attempt, t.ByWhom = store.Attached, &ground, &message, last[t.GatewayID], by
			t.Why = "attached " + said(by, why)
			evidence = append(evidence, course.OfStray(*t, now))
			t.Why = why
		}
		return evidence, tx.FateStrays(ctx, now, held)
	})
}

// Discard says that strays mean nothing to us. They are kept, and nobody looks for their messages, unless
// one becomes known by name.
func (s *Strays) Discard(ctx context.Context, ids []uuid.UUID, by, why string) error {
	return s.settling(ctx, ids, func(tx *store.Store, held []store.Stray, now time.Time) ([]store.Evidence, error) {
		evidence, err := s.loosen(ctx, tx, held, now, "its stray was discarded "+said(by, why))
		if err != nil {
			return nil, err
		}
		for i := range held {
			held[i] = store.Stray{ID: held[i].ID, Fate: store.Discarded, ByWhom: by, Why: why}
		}
		return evidence, tx.FateStrays(ctx, now, held)
	})
}

// loosen withdraws what strays say of the messages that they have.
func (s *Strays) loosen(ctx context.Context, tx *store.Store, held []store.Stray, now time.Time, note string) ([]store.Evidence, error) {
	var evidence []store.Evidence
	var grounds []int64
	for _, t := range held {
		if t.Ground == nil || slices.Contains(grounds, *t.Ground) {
			continue
		}
		grounds = append(grounds, *t.Ground)
		evidence = append(evidence, course.Withdrawn(*t.MessageID, t.GatewayID, t.On(), now, delivery.Operator, note))
	}
	return evidence, tx.FreeWithdrawn(ctx, now, grounds)
}

// Restore takes back what was done with strays, by a person or because they could only belong to one
// message: they wait again, and will not be taken to belong to the messages that they had.
func (s *Strays) Restore(ctx context.Context, ids []uuid.UUID, by, why string) error {
	return s.settling(ctx, ids, func(tx *store.Store, held []store.Stray, now time.Time) ([]store.Evidence, error) {
		all := make([]uuid.UUID, len(held))
		for i, t := range held {
			if t.Fate == store.Astray {
				return nil, fmt.Errorf("stray %s: %w", t.ID, ErrNothingToUndo)
			}
			all[i] = t.ID
		}
		if err := tx.FreeStrays(ctx, now, all); err != nil { // first: what they had is noted with them
			return nil, err
		}
		return s.loosen(ctx, tx, held, now, "taken back "+said(by, why))
	})
}

// Candidate is a message to which a stray may belong.
type Candidate struct {
	store.Claimant
	SameNumber bool
	Apart      time.Duration // from its submission to the stray
	Fits       bool          // it is open, and by number and time it may be
}

// candidatesMost is how many are shown.
const candidatesMost = 10

// Candidates lists the messages that are nearest to a stray: those to which it may belong first, then
// others to its number, then the nearest in time.
func (s *Strays) Candidates(ctx context.Context, t store.Stray) ([]Candidate, error) {
	g := s.Roster.ByID(t.GatewayID)
	if g == nil {
		return nil, nil
	}
	from := t.At.Add(-window(g))
	var found []store.Claimant
	var err error
	if t.Number != "" {
		found, err = s.Store.SentTo(ctx, g.ID, []string{t.Number}, from, t.At, amongMost)
	}
	if err == nil {
		var nameless []store.Claimant
		if nameless, err = s.Store.Nameless(ctx, g.ID, from, t.At, amongMost); err == nil {
			found = append(found, nameless...)
		}
	}
	if err != nil {
		return nil, err
	}
	rule := belong.Rule{Window: window(g), Slack: slack}
	line := belong.Line{Number: t.Number, Came: t.At, Last: t.At}
	if skew, known := s.Clocks.Skew(g.ID); known && t.GatewayAt != nil {
		line.Speaks = t.GatewayAt.Add(-skew)
	}
	names := s.Roster.HasNamed(g)
	var all []Candidate
	for _, c := range found {
		if slices.ContainsFunc(all, func(o Candidate) bool { return o.MessageID == c.MessageID && o.Attempt == c.Attempt }) {
			continue
		}
		all = append(all, Candidate{
			Claimant:   c,
			SameNumber: t.Number == c.To.String(),
			Apart:      t.At.Sub(c.Began),
			Fits: !c.Settled && (c.Ref == "" || !names) && !slices.Contains(t.Not(), c.MessageID) &&
				rule.Fits(line, belong.Claimant{Number: c.To.String(), Began: c.Began}),
		})
	}
	slices.SortStableFunc(all, func(a, b Candidate) int {
		as := func(b bool) int {
			if b {
				return 0
			}
			return 1
		}
		return cmp.Or(as(a.Fits)-as(b.Fits), as(a.SameNumber)-as(b.SameNumber), cmp.Compare(a.Apart, b.Apart))
	})
	return all[:min(len(all), candidatesMost)], nil
}
