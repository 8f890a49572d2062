// Package decide records what people decide about messages of which nobody knows the end, or of which
// two are claimed. A decision is evidence with a name and a reason, and can be taken back.
package decide

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/store"
)

// Verdict is what a person decides.
type Verdict string

// The verdicts.
const (
	Delivered Verdict = "delivered"  // it reached the handset after all
	Failed    Verdict = "failed"     // it did not
	NotSent   Verdict = "not_sent"   // no gateway took it
	SendAgain Verdict = "send_again" // it goes once more, whatever became of it
	Leave     Verdict = "leave"      // it stays as it is, and wants nobody any more
	TakeBack  Verdict = "take_back"  // the last decision counts no more
)

// Verdicts lists them all.
var Verdicts = []Verdict{Delivered, Failed, NotSent, SendAgain, Leave, TakeBack}

// ParseVerdict reads the word of a verdict. The error names every word it accepts.
func ParseVerdict(s string) (Verdict, error) {
	if !slices.Contains(Verdicts, Verdict(s)) {
		return "", fmt.Errorf("decision %q: not a decision; accepted are %s", s, fault.Words(Verdicts))
	}
	return Verdict(s), nil
}

// Why a message cannot be decided about.
var (
	errNothing  = errors.New("nothing about it is to be decided")
	errGone     = errors.New("there is no such message")
	errText     = errors.New("it is a passcode: its text is not kept; send a new one")
	errLate     = errors.New("its validity is over; send a new message")
	errMany     = errors.New("too much has been decided about it")
	errNotTaken = errors.New("nothing was decided about it that could be taken back")
	errSays     = errors.New("its handset has it; say failed first if that is wrong")
)

// Most is how many messages can be decided about at once.
const Most = 1000

// manyDecisions is how often a message can be decided about.
const manyDecisions = 50

// Decide decides about messages.
type Decide struct {
	kit.Kit
	Course *course.Course
}

// Refusal is why a message was not decided about.
type Refusal struct {
	Message uuid.UUID
	Why     string
}

// errTried undoes what was only tried out.
var errTried = errors.New("only tried out")

// Decide decides about messages, all in one transaction, and returns how many it was about, and those it was
// not about. With try nothing is written.
func (d *Decide) Decide(
	ctx context.Context, messages []uuid.UUID, verdict Verdict, by, why string, try bool,
) (decided int, refused []Refusal, err error) {
	messages = slices.Clone(messages)
	slices.SortFunc(messages, func(a, b uuid.UUID) int { return slices.Compare(a[:], b[:]) })
	messages = slices.Compact(messages)
	var changed []store.Message
	err = d.Store.Transact(ctx, func(tx *store.Store) error {
		decided, refused, changed = 0, nil, nil
		stand, err := tx.Stand(ctx, messages)
		if err != nil {
			return err
		}
		now := d.Now()
		var evidence []store.Evidence
		var seen []store.Message
		steps := course.Steps{}
		for _, id := range messages {
			m, ok := stand[id]
			var about []store.Evidence
			err := errGone
			if ok {
				about, err = decision(&m, verdict, by, why, now)
			}
			if err != nil {
				refused = append(refused, Refusal{id, err.Error()})
				continue
			}
			decided++
			seen, evidence = append(seen, m), append(evidence, about...)
			if verdict == SendAgain {
				steps[id] = course.Step{Wait: new(time.Duration)}
			}
		}
		if try {
			return errTried
		}
		changed, err = d.Course.Record(ctx, tx, evidence, steps, seen...)
		return err
	})
	if errors.Is(err, errTried) {
		return decided, refused, nil
	}
	if err == nil {
		d.Course.Announce(changed)
	}
	return decided, refused, err
}

// decision is what a verdict about a message adds to what is known of it.
func decision(m *store.Message, verdict Verdict, by, why string, now time.Time) ([]store.Evidence, error) {
	known := m.Known()
	if verdict == TakeBack {
		standing := m.Decisions()
		if len(standing) == 0 {
			return nil, errNotTaken
		}
		e := course.Withdrawn(m.ID, m.GatewayID, standing[len(standing)-1], now, delivery.Operator,
			fmt.Sprintf("the decision is taken back by %s: %s", by, cmp.Or(why, "no reason given")))
		return []store.Evidence{e}, nil
	}
	tried := m.Tried()
	switch {
	case len(tried) == 0 || m.State == delivery.Sending || m.State == delivery.Queued && !known.MayHaveGone:
		return nil, errNothing
	case len(m.Decisions()) >= manyDecisions:
		return nil, errMany
	}
	var claim delivery.State
	var cause delivery.Cause
	switch verdict {
	case Delivered:
		claim = delivery.Delivered
		tried = slices.DeleteFunc(tried, func(t delivery.Tried) bool { return t.Attempt != known.Attempt && known.Attempt > 0 })
		if len(tried) == 0 {
			return nil, errNothing
		}
	case Failed:
		claim, cause = delivery.Undeliverable, cmp.Or(m.Cause, delivery.Unspecified)
	case NotSent:
		claim = delivery.Cancelled
	case SendAgain:
		claim = delivery.Queued
		switch {
		case m.Kind == pace.OTP:
			return nil, errText
		case m.State == delivery.Delivered && !known.Weak:
			return nil, errSays
		case !now.Before(m.ValidUntil):
			return nil, errLate
		}
	case Leave:
		if claim = m.State; !claim.Final() {
			claim = delivery.Unknown
		}
		cause = m.Cause
	}
	ground := store.GroundOf(store.NewID())
	evidence := make([]store.Evidence, len(tried))
	for i, t := range tried {
		evidence[i] = store.Evidence{
			ID: store.IDAt(now), MessageID: m.ID, At: now, Source: delivery.Operator, Claim: claim, Cause: cause, Attempt: t.Attempt,
			GatewayID: &m.GatewayID, Ground: ground, Over: t.Endings,
			Note: fmt.Sprintf("%s, decided by %s: %s", said[verdict], by, cmp.Or(why, "no reason given")),
		}
	}
	return evidence, nil
}

var said = map[Verdict]string{
	Delivered: "delivered after all",
	Failed:    "it failed",
	NotSent:   "not sent",
	SendAgain: "to go again",
	Leave:     "left as it is",
}
