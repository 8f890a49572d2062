// Package schedule works out what is to be done next with a message, and when:
// to submit it, to ask about it, to give it up.
package schedule

import (
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
)

// Retry spaces the submissions of a message that was not taken.
var Retry = pace.Backoff{First: time.Second, Most: time.Minute}

const (
	// doubtPause lets a reply that is merely late come in before a doubtful
	// message is submitted again with a reference that the gateway honours.
	doubtPause = time.Second
	// doubtAsk is the longest wait before a doubtful message is asked about.
	doubtAsk = 30 * time.Second
	// doubtEnd is when a doubtful message that cannot be asked about becomes
	// unknown and is shown to a person.
	doubtEnd = 15 * time.Minute
	// longestAsk is the longest pause between two status queries.
	longestAsk = 6 * time.Hour
)

// Times are when something is to be done with a message. Those that are zero or
// nil stand for nothing to be done.
type Times struct {
	DueAt    time.Time // to be sent
	AskAt    *time.Time
	Asks     int // so far
	GiveUpAt *time.Time
	BeganAt  time.Time // its last submission
}

// Gateway is what counts of the gateway that a message goes through.
type Gateway struct {
	AskAfter    time.Duration // the silence before the first status query
	GiveUpAfter time.Duration // from the submission on
	Timeout     time.Duration // of a request
	Asks        bool          // it can be asked about messages
	CanAsk      bool          // it can be asked about this one, by what it is called
	Honours     bool          // the same reference twice is one message to it
}

// Message is what counts of a message.
type Message struct {
	State      delivery.State
	Attempts   int
	Kind       pace.Kind
	ValidUntil time.Time
	Refused    bool // a later submission was refused, and an earlier one is in doubt
	Times
}

// Next is when something is to be done with a message that has moved from a
// state, or is submitted anew. wait is what was said to wait before the next try;
// nil: as usual. jitter is a random number in [0, 1).
func Next(from delivery.State, again bool, m Message, g Gateway, now time.Time, wait *time.Duration, jitter float64) Times {
	in := func(d time.Duration) *time.Time { t := now.Add(d); return &t }
	next := m.Times
	if again || next.GiveUpAt == nil { // the last submission counts
		next.GiveUpAt = in(g.GiveUpAfter)
	}
	next.Asks, next.AskAt = 0, nil
	switch {
	case m.State.Final():
	case m.State == delivery.Sending:
		// When it is asked about, should it be taken: most are, and then nothing
		// has to be written again.
		next.AskAt = next.GiveUpAt
		if g.Asks {
			next.AskAt = earlier(in(g.AskAfter), next.GiveUpAt)
		}
	case m.State == delivery.Queued:
		pause := Retry.Wait(max(m.Attempts, 1), jitter)
		if wait != nil {
			pause = *wait
		}
		next.DueAt = now.Add(pause)
	case m.State == delivery.Doubtful:
		switch {
		case MayResubmit(m, g, now):
			next.AskAt = earlier(in(doubtPause), next.GiveUpAt)
		case g.CanAsk:
			next.AskAt = earlier(in(doubtWait(g)), next.GiveUpAt)
		default:
			next.GiveUpAt = earlier(in(doubtEnd), next.GiveUpAt)
			next.AskAt = next.GiveUpAt
		}
	case m.State == delivery.Accepted || m.State == delivery.Enroute:
		next.AskAt = next.GiveUpAt
		switch {
		case !g.CanAsk:
		case from == delivery.Sending && m.AskAt != nil:
			next.AskAt = m.AskAt
		default:
			next.AskAt = earlier(in(g.AskAfter), next.GiveUpAt)
		}
	}
	return next
}

// doubtWait is the wait before a doubtful message is asked about: the gateway
// may still be at work on the request whose answer was lost, and "no such
// message" is only worth something once it is not.
func doubtWait(g Gateway) time.Duration {
	return min(max(3*g.Timeout, g.AskAfter), doubtAsk)
}

// AskAgain is when to ask about a message the next time.
func AskAgain(m Times, askAfter time.Duration, now time.Time, jitter float64) *time.Time {
	at := now.Add(pace.Backoff{First: askAfter, Most: longestAsk}.Wait(m.Asks+1, jitter))
	return earlier(&at, m.GiveUpAt)
}

// MayResubmit reports whether a doubtful message may be submitted again: with
// a reference that the gateway honours the same message twice is one; a
// passcode twice harms nobody. Both only while the message is of use, and no
// submission after the doubtful one was refused.
func MayResubmit(m Message, g Gateway, now time.Time) bool {
	return !m.Refused && now.Before(m.ValidUntil) && (g.Honours || m.Kind == pace.OTP)
}

func earlier(a, b *time.Time) *time.Time {
	if b != nil && b.Before(*a) {
		return b
	}
	return a
}
