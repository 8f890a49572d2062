package delivery

import "cmp"

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
	// Freed is how many submissions were in doubt until the gateway, asked, said
	// that it knows nothing of them.
	Freed int
	// Refused reports that the state speaks of a submission in doubt although a
	// later one was refused: going again would be refused again.
	Refused bool
	// Weak reports that the state rests on what names no message and can only
	// belong to this one. It is never a reason to send again.
	Weak bool
	// Decided reports that the state is what a person decided.
	Decided bool
}

// Contested reports whether two final claims contradict each other.
func (o Outcome) Contested() bool { return len(o.Rivals) > 1 }

// Fold works out a message's outcome from its evidence. The order and the
// number of repetitions do not matter. Of no evidence the outcome is zero.
func Fold(evidence []Evidence) Outcome {
	var d Digest
	for _, e := range evidence {
		d.Add(e)
	}
	return d.Outcome()
}

// Outcome works out what is known.
//
// Claims are weighed for each submission by itself: the highest rank wins,
// ties are broken by [Source], the gateway's time and a fixed order. Then the
// submissions are compared: one that was delivered wins, then one that was
// taken, then the latest. But a refusal says nothing about an earlier
// submission: where that one is in doubt, the message is.
//
// A person's decision holds for a submission, whatever was claimed of it before.
// Where an ending is claimed that it did not know of, it is one claim among the
// others, and the message is contested. What names no message and can only belong
// to this one counts where nobody else has said how it ended.
func (d *Digest) Outcome() Outcome {
	var best, doubted submission
	var out Outcome
	for i := range d.submissions {
		s := d.submissions[i].weigh(d.parts)
		out.Attempts = max(out.Attempts, s.attempt)
		out.MayHaveGone = out.MayHaveGone || s.inDoubt()
		if s.doubted && s.firm.state == Queued && s.firm.source == Query {
			out.Freed++
		}
		if s.inDoubt() || s.doubted && s.firm.state == Unknown {
			doubted = s
		}
		if s.claim.state != "" && (best.claim.state == "" || s.compare(best) > 0) {
			best = s
		}
	}
	if best.claim.state == Rejected && doubted.attempt > 0 && doubted.attempt < best.attempt {
		best, out.Refused = doubted, true
		best.claim, best.weak = best.firm, false
		if best.claim.state != Unknown {
			best.claim.state = Doubtful
		}
	}
	out.State, out.Cause, out.Attempt, out.GatewayRef = best.claim.state, best.claim.cause, best.attempt, best.ref
	out.Weak, out.Decided = best.weak, best.decided
	if best.finals.several() {
		out.Rivals = best.finals.States()
	}
	return out
}

// submission is what the claims about one attempt come to.
type submission struct {
	attempt int
	claim   claim // which holds
	firm    claim // the same of those who name the submission
	finals  Endings
	ref     string
	doubted bool // somewhere in it doubt was claimed
	weak    bool // what holds is of nobody who names it
	decided bool
}

// inDoubt reports whether the doubt about a submission stands: our own wish to
// submit again does not end it, nor does what names no message.
func (s submission) inDoubt() bool {
	return s.doubted && (s.firm.state == Doubtful || s.firm.state == Queued && s.firm.source == Own)
}

// open reports whether nobody who names the submission has said how it ended.
func (s submission) open() bool {
	switch s.firm.state {
	case Accepted, Enroute, Unknown:
		return !s.decided
	}
	return s.inDoubt()
}

func (s submission) compare(o submission) int {
	as := func(b bool) int {
		if b {
			return 1
		}
		return 0
	}
	return cmp.Or(
		cmp.Compare(as(s.claim.state == Delivered), as(o.claim.state == Delivered)),
		cmp.Compare(as(s.claim.state.Taken()), as(o.claim.state.Taken())),
		cmp.Compare(s.attempt, o.attempt),
	)
}

// weigh finds the claim that holds for a submission of a message of so many
// segments.
func (s *submitted) weigh(parts int) submission {
	out := submission{attempt: s.attempt, ref: s.ref.ref, doubted: s.doubted}
	claims, decision := s.firm()
	out.claims(claims, parts)
	if decision.best.state != "" {
		out.decide(decision)
	}
	out.firm = out.claim
	if len(s.grounded) == 0 || !out.open() {
		return out
	}
	if claims, any := s.weakly(); any {
		var all submission
		all.claims(claims, parts)
		if all.claim.compare(out.claim) > 0 {
			out.claim, out.weak = all.claim, true
		}
	}
	return out
}

// decide lets a person's decision hold, if it knew of every ending that is claimed.
func (s *submission) decide(d groundedClaim) {
	if s.finals&^d.over&^d.finals == 0 {
		s.claim, s.finals, s.decided = d.best, 0, true
		return
	}
	s.consider(d.best)
	s.finals |= d.finals
}

// claims weighs claims, those about segments against each other first.
func (s *submission) claims(claims []partClaim, parts int) {
	var byPart []partClaim
	for _, c := range claims {
		if c.part > 0 && parts > 1 && c.part <= parts {
			byPart = append(byPart, c)
			if c.finals.several() { // one segment, two endings
				s.finals |= c.finals
			}
			continue
		}
		s.consider(c.best)
		s.finals |= c.finals
	}
	if byPart != nil {
		whole := joinParts(byPart, parts)
		s.consider(whole)
		s.finals |= endings(whole.state)
	}
}

func (s *submission) consider(c claim) {
	if s.claim.state == "" || c.compare(s.claim) > 0 {
		s.claim = c
	}
}

// joinParts makes one claim for the whole message of what is claimed for its
// segments: delivered when all are, failed when one failed, and on its way as
// long as one is missing.
func joinParts(byPart []partClaim, parts int) claim {
	var failed, gone, moving, any claim
	delivered := 0
	stronger := func(than *claim, c claim) {
		if c.compare(*than) > 0 {
			*than = c
		}
	}
	for _, p := range byPart {
		stronger(&any, p.best)
		switch state := p.best.state; {
		case state == Delivered:
			delivered++
		case state.settles():
			stronger(&failed, p.best)
		case state == Unknown:
			stronger(&gone, p.best)
		default:
			stronger(&moving, p.best)
		}
	}
	switch {
	case delivered == parts:
		return any
	case failed.state != "":
		return failed
	case gone.state != "" && len(byPart) == parts && moving.state == "":
		return gone
	case delivered > 0 || gone.state != "":
		any.state, any.cause = Enroute, ""
		return any
	}
	return moving
}
