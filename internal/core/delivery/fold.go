package delivery

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// Outcome is what all evidence about a message amounts to.
type Outcome struct {
	State State
	Cause Cause
	// Rivals are the final states claimed for the same submission when they
	// contradict each other, in the order of the tally; else nil.
	Rivals []State
	// Attempt is the submission that the state speaks of.
	Attempt int
	// Attempts is how many submissions were begun.
	Attempts int
	// GatewayRef is the gateway's id of that submission, if it is known.
	GatewayRef string
	// MayHaveGone reports that a submission was in doubt and nobody but us has
	// said since that it was not taken, also when the message waits to go
	// again.
	MayHaveGone bool
}

// Contested reports whether two final claims contradict each other.
func (o Outcome) Contested() bool { return len(o.Rivals) > 1 }

// Fold works out a message's outcome from its evidence. The order and the
// number of repetitions do not matter. Of no evidence the outcome is zero.
//
// Claims are weighed for each submission by itself: the highest rank wins,
// ties are broken by [Source], the gateway's time and a fixed order. Then the
// submissions are compared: one that was delivered wins, then one that was
// taken, then the latest.
func Fold(evidence []Evidence) Outcome {
	parts, last := 0, 0
	for _, e := range evidence {
		parts = max(parts, e.Parts)
		last = max(last, e.Attempt)
	}
	var best submission
	mayHaveGone := false
	for n := 0; n <= last; n++ {
		s := weighSubmission(n, parts, evidence)
		mayHaveGone = mayHaveGone || s.inDoubt()
		if s.claim.Claim != "" && (best.claim.Claim == "" || s.compare(best) > 0) {
			best = s
		}
	}
	out := Outcome{
		State: best.claim.Claim, Cause: best.claim.Cause,
		Attempt: best.attempt, Attempts: last, GatewayRef: best.ref, MayHaveGone: mayHaveGone,
	}
	if len(best.finals) > 1 {
		out.Rivals = best.finals
	}
	return out
}

// submission is what is known of one attempt.
type submission struct {
	attempt int
	claim   Evidence
	finals  []State
	ref     string
	doubted bool // somewhere in it doubt was claimed
}

// inDoubt reports whether the doubt about a submission stands: our own wish to
// submit again does not end it.
func (s submission) inDoubt() bool {
	return s.doubted && (s.claim.Claim == Doubtful || s.claim.Claim == Queued && s.claim.Source == Own)
}

func (s submission) compare(o submission) int {
	as := func(b bool) int {
		if b {
			return 1
		}
		return 0
	}
	return cmp.Or(
		cmp.Compare(as(s.claim.Claim == Delivered), as(o.claim.Claim == Delivered)),
		cmp.Compare(as(s.claim.Claim.Taken()), as(o.claim.Claim.Taken())),
		cmp.Compare(s.attempt, o.attempt),
	)
}

func weighSubmission(attempt, parts int, evidence []Evidence) submission {
	s := submission{attempt: attempt}
	var byPart map[int]Evidence
	var refFrom Evidence
	consider := func(e Evidence) {
		if e.Claim.settles() && !slices.Contains(s.finals, e.Claim) {
			s.finals = append(s.finals, e.Claim)
		}
		if s.claim.Claim == "" || e.compare(s.claim) > 0 {
			s.claim = e
		}
	}
	partFinals := map[int][]State{}
	for _, e := range evidence {
		if e.Attempt != attempt {
			continue
		}
		if e.GatewayRef != "" && (refFrom.GatewayRef == "" || firstRef(e, refFrom) < 0) {
			refFrom = e
		}
		s.doubted = s.doubted || e.Claim == Doubtful
		switch {
		case e.Claim == "":
		case e.Part > 0 && parts > 1 && e.Part <= parts:
			if byPart == nil {
				byPart = map[int]Evidence{}
			}
			if prior, seen := byPart[e.Part]; !seen || e.compare(prior) > 0 {
				byPart[e.Part] = e
			}
			if e.Claim.settles() && !slices.Contains(partFinals[e.Part], e.Claim) {
				partFinals[e.Part] = append(partFinals[e.Part], e.Claim)
			}
		default:
			consider(e)
		}
	}
	if byPart != nil {
		consider(joinParts(byPart, parts))
		for _, claimed := range partFinals {
			if len(claimed) > 1 { // one segment, two endings
				for _, state := range claimed {
					if !slices.Contains(s.finals, state) {
						s.finals = append(s.finals, state)
					}
				}
			}
		}
	}
	slices.SortFunc(s.finals, func(a, b State) int { return cmp.Compare(a.order(), b.order()) })
	s.ref = refFrom.GatewayRef
	return s
}

// joinParts makes one claim for the whole message of what is claimed for its
// segments: delivered when all are, failed when one failed, and on its way as
// long as one is missing.
func joinParts(byPart map[int]Evidence, parts int) Evidence {
	var failed, gone, moving, any Evidence
	delivered := 0
	for _, e := range byPart {
		if e.compare(any) > 0 {
			any = e
		}
		switch {
		case e.Claim == Delivered:
			delivered++
		case e.Claim.settles():
			if e.compare(failed) > 0 {
				failed = e
			}
		case e.Claim == Unknown:
			if e.compare(gone) > 0 {
				gone = e
			}
		default:
			if e.compare(moving) > 0 {
				moving = e
			}
		}
	}
	whole := func(e Evidence, claim State) Evidence {
		e.Claim, e.Part = claim, 0
		return e
	}
	switch {
	case delivered == parts:
		return whole(any, Delivered)
	case failed.Claim != "":
		return whole(failed, failed.Claim)
	case gone.Claim != "" && len(byPart) == parts && moving.Claim == "":
		return whole(gone, Unknown)
	case delivered > 0 || gone.Claim != "":
		e := whole(any, Enroute)
		e.Cause = ""
		return e
	}
	return whole(moving, moving.Claim)
}

// firstRef prefers the id that the gateway gave first: from the reply, then
// the query, the receipt, the statement; then by the text itself.
func firstRef(a, b Evidence) int {
	from := func(e Evidence) int {
		i := slices.Index([]Source{Reply, Query, Receipt, Statement}, e.Source)
		if i < 0 {
			return 9
		}
		return i
	}
	return cmp.Or(cmp.Compare(from(a), from(b)), laterFirst(a.GatewayAt, b.GatewayAt), strings.Compare(a.GatewayRef, b.GatewayRef))
}

func laterFirst(a, b time.Time) int { return b.Compare(a) }
