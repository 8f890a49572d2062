// Package recovery recognises a database that is not as it was left, keeps the service in
// quarantine, and leads out of it.
package recovery

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/identity"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/batches"
	"calmpigeon.example/internal/engine/chase"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/store"
)

const (
	// aliveWithin is how long it is watched whether another instance is at work: each notes that it
	// is every two seconds.
	aliveWithin, aliveLook = 6 * time.Second, 500 * time.Millisecond
	// guardEvery is how often it is looked whether the database was rewound, or leads elsewhere.
	guardEvery = 500 * time.Millisecond
	// doubtMost is how many messages become doubtful in one transaction.
	doubtMost = 1000
)

// Recovery keeps the quarantine.
type Recovery struct {
	kit.Kit
	Course  *course.Course
	Batches *batches.Batches
	Chase   *chase.Chase
	Forget  func(ctx context.Context) error // what is remembered of the database
}

// Recognise judges the database before anything moves, with what is remembered of it; nil if
// nothing is. It begins a quarantine where the database is not as it was left, or by hand.
func Recognise(ctx context.Context, s *store.Store, memory *identity.Memory, byHand bool) (identity.Verdict, error) {
	live, noted, err := s.Identity(ctx)
	if err != nil {
		return identity.Verdict{}, err
	}
	c := identity.Case{Live: live, Noted: noted, Memory: memory}
	if c.Used, err = s.Used(ctx); err != nil {
		return identity.Verdict{}, err
	}
	v := identity.Judge(c)
	if v.Reason == identity.Promote || v.Reason == identity.Cloned {
		if c.Alive, err = othersWork(ctx, s); err != nil {
			return v, err
		}
		v = identity.Judge(c)
	}
	if !v.Quarantine() && byHand {
		v = identity.Verdict{Reason: identity.ByHand, Why: "the service was started with --quarantine"}
	}
	switch {
	case v.Quarantine():
		return v, s.BeginQuarantine(ctx, v.Reason, v.Why)
	case v.Note:
		return v, s.NoteHome(ctx)
	}
	return v, nil
}

// othersWork watches whether another instance goes on noting that it is at work.
func othersWork(ctx context.Context, s *store.Store) (bool, error) {
	first, err := s.LastBeat(ctx)
	for began := time.Now(); err == nil && time.Since(began) < aliveWithin; {
		select {
		case <-ctx.Done():
			return false, ctx.Err()
		case <-time.After(aliveLook):
		}
		var last time.Time
		if last, err = s.LastBeat(ctx); last.After(first) {
			return true, err
		}
	}
	return false, err
}

// Enter closes the gate if a quarantine stands, before anything moves.
func (r *Recovery) Enter(ctx context.Context) error {
	q, err := r.Store.Quarantine(ctx)
	if errors.Is(err, store.ErrNotFound) {
		last, err := r.Store.LastQuarantine(ctx)
		if err == nil {
			r.Gate.Lifted(*last.LiftedAt)
		}
		r.Gate.Set(false, false)
		return noneIsFine(err)
	}
	if err != nil {
		return err
	}
	r.Gate.Set(true, q.AskedAt != nil)
	r.Log.Error("in quarantine: the database is not as it was left, and nothing is sent; go through it with: pigeon recover",
		"why", q.Why, "since", q.Since)
	return nil
}

func noneIsFine(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return err
}

// Run watches that the database stays as it was left, until ctx ends.
func (r *Recovery) Run(ctx context.Context) {
	guard := time.NewTicker(guardEvery)
	defer guard.Stop()
	said := time.Time{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-guard.C:
		}
		if err := r.guard(ctx); err != nil && ctx.Err() == nil && time.Since(said) > 10*time.Second {
			said = time.Now()
			r.Log.Error("watching that the database stays as it was left", "error", err)
		}
	}
}

func (r *Recovery) guard(ctx context.Context) error {
	if r.Store.Rewound() {
		if err := r.Store.BeginQuarantine(ctx, identity.Rewound, "it lacks what this instance had committed"); err != nil {
			return err
		}
		r.Gate.Set(true, false)
		if err := errors.Join(r.Store.EnrolAgain(ctx), r.Forget(ctx)); err != nil {
			return err
		}
		return r.Enter(ctx)
	}
	if r.Store.Moved() { // nothing is missing: a failover
		r.Log.Warn("the database was reached elsewhere, with all that was committed: it was promoted, or moved")
		return r.Store.NoteHome(ctx)
	}
	return nil
}

// Look takes up a quarantine that another instance began or lifted. The gate stays closed while
// what was queued is not yet doubtful.
func (r *Recovery) Look(ctx context.Context, quarantined, asking, prepared bool) error {
	was := r.Gate.Closed() // that it is outdated, or rewound, is another matter
	if !quarantined && was {
		r.Gate.Lifted(r.Now())
	}
	if !r.Store.Rewound() {
		r.Gate.Set(quarantined, asking)
	}
	switch {
	case !quarantined && was:
		r.Log.Warn("the quarantine is lifted: messages go again")
	case quarantined && !prepared:
		return r.prepare(ctx)
	}
	return nil
}

// prepare makes doubtful each message that may have gone since the moment of the copy, rows of batches too, and
// pauses batches.
func (r *Recovery) prepare(ctx context.Context) error {
	q, err := r.Store.Quarantine(ctx)
	if err != nil || q.PreparedAt != nil {
		return err
	}
	since := "the moment of the copy"
	if q.Reaches != nil {
		since = q.Reaches.UTC().Format(time.RFC3339)
	}
	if err := r.Batches.UnfoldAll(ctx); err != nil {
		return fmt.Errorf("making messages of rows that may have gone: %w", err)
	}
	if err := r.Batches.PauseAll(ctx, "quarantine: rows may have gone since "+since); err != nil {
		return err
	}
	total := 0
	for more := true; more && ctx.Err() == nil; {
		var changed []store.Message
		err := r.Store.Transact(ctx, func(s *store.Store) error {
			now := r.Now()
			found, err := s.MayHaveGone(ctx, now, doubtMost)
			if err != nil {
				return err
			}
			more = len(found) > 0
			var evidence []store.Evidence
			for _, m := range found {
				note := "quarantine: it was " + string(m.State) + " in a database that was restored, and may have gone since " + since
				begins := course.Own(m, now, delivery.Sending, m.Attempts+1, "")
				if q.Reaches != nil && q.Reaches.Before(now) { // it may have gone at any moment since
					begins.At = *q.Reaches
					if m.CreatedAt.After(begins.At) {
						begins.At = m.CreatedAt
					}
				}
				doubt := course.Own(m, now, delivery.Doubtful, m.Attempts+1, note)
				evidence = append(evidence, begins, doubt)
			}
			changed, err = r.Course.Record(ctx, s, evidence, nil, found...)
			return err
		})
		if err != nil {
			return fmt.Errorf("making doubtful what may have gone: %w", err)
		}
		total += len(changed)
		r.Course.Announce(changed)
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	r.Log.Warn("what was queued may have gone, and is doubtful", "messages", total)
	return r.Store.PreparedQuarantine(ctx)
}

// Means is how a gateway can be asked about a message of which only our reference is known.
type Means string

// The means.
const (
	Honours   Means = "honours_reference" // the same reference twice is one message: it can go again
	Reference Means = "by_reference"      // it is asked by our reference
	Statement Means = "by_statement"      // only its statement tells
	Nothing   Means = "not_at_all"
)

// Undecided are doubtful messages that are alike.
type Undecided struct {
	Gateway string
	Kind    pace.Kind
	Means   Means
	N       int64
	First   time.Time
	Last    time.Time
}

// State is where a recovery stands.
type State struct {
	Quarantine store.Quarantine
	Standing   bool // else it is the last one, that was lifted
	Doubtful   []Undecided
	Queued     int64 // go as soon as it is lifted
	Paused     []store.Batch
	// Unknown are messages that gateways tell of and that the database does not know.
	Unknown int64
}

// ErrNone is returned where there is no quarantine, and never was.
var ErrNone = errors.New("the database is as it was left, and always was")

// State tells where the recovery stands.
func (r *Recovery) State(ctx context.Context) (st State, err error) {
	st.Quarantine, err = r.Store.Quarantine(ctx)
	if st.Standing = err == nil; errors.Is(err, store.ErrNotFound) {
		if st.Quarantine, err = r.Store.LastQuarantine(ctx); errors.Is(err, store.ErrNotFound) {
			return st, ErrNone
		}
	}
	if err != nil {
		return st, err
	}
	doubts, err := r.Store.CountDoubts(ctx, st.Quarantine.Since)
	if err != nil {
		return st, err
	}
	for _, d := range doubts {
		u := Undecided{Gateway: d.Gateway.String(), Kind: pace.Kind(d.Kind), Means: Nothing, N: d.N, First: d.First, Last: d.Last}
		if g := r.Roster.ByID(d.Gateway); g != nil {
			u.Gateway = g.Name
			switch {
			case g.Dialect.HonoursReference():
				u.Means = Honours
			case g.Dialect.CanAsk(""):
				u.Means = Reference
			case g.Dialect.Statement != nil:
				u.Means = Statement
			}
		}
		st.Doubtful = append(st.Doubtful, u)
	}
	slices.SortFunc(st.Doubtful, func(a, b Undecided) int {
		return cmp.Or(cmp.Compare(a.Kind.Lane(), b.Kind.Lane()), cmp.Compare(a.Gateway, b.Gateway))
	})
	if st.Queued, err = r.Store.CountQueued(ctx); err != nil {
		return st, err
	}
	if st.Paused, err = r.Batches.PausedFor(ctx, "quarantine"); err != nil {
		return st, err
	}
	from := st.Quarantine.Since
	if st.Quarantine.Reaches != nil {
		from = *st.Quarantine.Reaches
	}
	st.Unknown, err = r.Store.StraysSince(ctx, from)
	return st, err
}

// Ask lets gateways be asked about all doubtful messages that they can be asked about, and returns how
// many these are.
func (r *Recovery) Ask(ctx context.Context, gateway uuid.UUID) (asked int, err error) {
	q, err := r.Store.Quarantine(ctx)
	if err != nil {
		return 0, err
	}
	if err := r.Store.AskInQuarantine(ctx); err != nil {
		return 0, err
	}
	r.Gate.Set(true, true)
	var after uuid.UUID
	for more := true; more; {
		var doubtful []store.Message
		if doubtful, after, more, err = r.Store.DoubtfulAfter(ctx, store.Doubtful{Since: q.Since, Gateway: gateway}, after, chase.NowMost); err != nil {
			return asked, err
		}
		var ask []uuid.UUID
		for _, m := range doubtful {
			if g := r.Roster.ByID(m.GatewayID); g != nil && g.Dialect.CanAsk(m.GatewayRef) {
				ask = append(ask, m.ID)
			}
		}
		if len(ask) > 0 {
			if _, _, err = r.Chase.AskNow(ctx, ask, false); err != nil {
				return asked, err
			}
			asked += len(ask)
		}
	}
	return asked, nil
}

// Choice is what is decided about doubtful messages.
type Choice string

// The choices. Those that are held stay doubtful: they are asked about, and go again only by evidence.
const (
	Send   Choice = "send"
	Hold   Choice = "hold"
	Cancel Choice = "cancel"
)

// Decision is a choice about some of the doubtful messages.
type Decision struct {
	Choice  Choice
	Gateway uuid.UUID // nil: all
	Kind    string    // empty: all
	// Before: accepted before; zero: whenever.
	Before time.Time
	By     string
	Try    bool // nothing is written
}

// Decide decides about doubtful messages, and returns how many these are; and how many were left as they are, as
// the time in which they are of use is over.
func (r *Recovery) Decide(ctx context.Context, d Decision) (decided, left int, err error) {
	q, err := r.Store.Quarantine(ctx)
	if err != nil {
		return 0, 0, err
	}
	which := store.Doubtful{Since: q.Since, Gateway: d.Gateway, Kind: d.Kind, Before: d.Before}
	var after uuid.UUID
	for more := true; more; {
		var doubtful []store.Message
		if doubtful, after, more, err = r.Store.DoubtfulAfter(ctx, which, after, doubtMost); err != nil {
			return decided, left, err
		}
		now := r.Now()
		var evidence []store.Evidence
		var about []store.Message
		steps := course.Steps{}
		for _, m := range doubtful {
			if d.Choice == Send && !now.Before(m.ValidUntil) {
				left++ // its time is over
				continue
			}
			decided++
			about = append(about, m)
			claim := map[Choice]delivery.State{Send: delivery.Queued, Cancel: delivery.Cancelled}[d.Choice]
			ground := store.GroundOf(store.NewID())
			for _, t := range m.Tried() {
				evidence = append(
					evidence,
					store.Evidence{ID: store.IDAt(now), MessageID: m.ID, At: now, Source: delivery.Operator, Claim: claim,
						Attempt: t.Attempt, GatewayID: &m.GatewayID, Ground: ground, Over: t.Endings,
						Note: fmt.Sprintf("%s after a quarantine, decided by %s", saidOf[d.Choice], d.By)},
				)
			}
			if d.Choice == Send {
				steps[m.ID] = course.Step{Wait: new(time.Duration)}
			}
		}
		if d.Try || d.Choice == Hold || len(evidence) == 0 {
			continue
		}
		changed, err := r.Course.Record(ctx, r.Store, evidence, steps, about...)
		if err != nil {
			return decided, left, err
		}
		r.Course.Announce(changed)
	}
	return decided, left, nil
}

var saidOf = map[Choice]string{Send: "to go again", Cancel: "not to go"}

// ErrNotPrepared is returned while what was queued is not doubtful yet.
var ErrNotPrepared = errors.New("what was queued is still being made doubtful; try again in a moment")

// Lift ends the quarantine.
func (r *Recovery) Lift(ctx context.Context, by string) error {
	q, err := r.Store.Quarantine(ctx)
	if err != nil {
		return err
	}
	if q.PreparedAt == nil {
		return ErrNotPrepared
	}
	if err := r.Store.LiftQuarantine(ctx, by); err != nil {
		return err
	}
	r.Gate.Lifted(r.Now())
	r.Gate.Set(false, false)
	for _, g := range r.Roster.All() {
		r.Bells.Ring(g.ID, false)
	}
	if err := r.lookNow(ctx, q.Since); err != nil { // it is lifted; they are looked after a little later
		r.Log.Warn("looking after doubtful messages at once", "error", err)
	}
	return nil
}

// lookNow lets messages that became doubtful since a moment be looked after at once: those that may go again go,
// and do not wait for when they would be asked about.
func (r *Recovery) lookNow(ctx context.Context, since time.Time) error {
	var after uuid.UUID
	for more := true; more; {
		var doubtful []store.Message
		var err error
		if doubtful, after, more, err = r.Store.DoubtfulAfter(ctx, store.Doubtful{Since: since}, after, chase.NowMost); err != nil {
			return err
		}
		ids := make([]uuid.UUID, len(doubtful))
		for i := range doubtful {
			ids[i] = doubtful[i].ID
		}
		if err := r.Store.Transact(ctx, func(s *store.Store) error {
			stand, err := s.Stand(ctx, ids)
			if err != nil {
				return err
			}
			maps.DeleteFunc(stand, func(_ uuid.UUID, m store.Message) bool { return m.State != delivery.Doubtful })
			return s.AskNow(ctx, slices.Collect(maps.Values(stand)), r.Now())
		}); err != nil {
			return err
		}
	}
	return nil
}
