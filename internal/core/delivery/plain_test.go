package delivery

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// The same as [Fold], written down from all evidence at once and with no regard
// to cost. The digest is held against it.

func plainFold(evidence []Evidence) Outcome {
	parts, last := 0, 0
	withdrawn := map[Ground]bool{}
	for _, e := range evidence {
		parts = max(parts, e.Parts)
		last = max(last, e.Attempt)
		if e.Withdraws != 0 {
			withdrawn[e.Withdraws] = true
		}
	}
	evidence = slices.Clone(evidence)
	for i := range evidence {
		if withdrawn[evidence[i].Ground] {
			evidence[i].Claim = ""
		}
	}
	var best, doubted plainSubmission
	mayHaveGone, freed := false, 0
	for n := 0; n <= last; n++ {
		s := plainWeigh(n, parts, evidence)
		mayHaveGone = mayHaveGone || s.inDoubt()
		if s.doubted && s.firm.Claim == Queued && s.firm.Source == Query {
			freed++
		}
		if s.inDoubt() || s.doubted && s.firm.Claim == Unknown {
			doubted = s
		}
		if s.claim.Claim != "" && (best.claim.Claim == "" || s.compare(best) > 0) {
			best = s
		}
	}
	refused := best.claim.Claim == Rejected && doubted.attempt > 0 && doubted.attempt < best.attempt
	if refused {
		best = doubted
		best.claim, best.weak = best.firm, false
		if best.claim.Claim != Unknown {
			best.claim.Claim = Doubtful
		}
	}
	out := Outcome{
		State: best.claim.Claim, Cause: best.claim.Cause,
		Attempt: best.attempt, Attempts: last, GatewayRef: best.ref, MayHaveGone: mayHaveGone, Freed: freed, Refused: refused,
		Weak: best.weak, Decided: best.decided,
	}
	if len(best.finals) > 1 {
		out.Rivals = best.finals
	}
	return out
}

// submission is what is known of one attempt.
type plainSubmission struct {
	attempt int
	claim   Evidence
	finals  []State
	ref     string
	doubted bool // somewhere in it doubt was claimed
	firm    Evidence
	weak    bool
	decided bool
}

// inDoubt reports whether the doubt about a submission stands: our own wish to
// submit again does not end it.
func (s plainSubmission) inDoubt() bool {
	return s.doubted && (s.firm.Claim == Doubtful || s.firm.Claim == Queued && s.firm.Source == Own)
}

func (s plainSubmission) compare(o plainSubmission) int {
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

// plainWeigh weighs first what names the submission, then decides, and looks at what is weak only
// where the end is open.
func plainWeigh(attempt, parts int, evidence []Evidence) plainSubmission {
	var named, all []Evidence
	var decision Evidence
	for _, e := range evidence {
		switch {
		case e.Ground != 0 && e.Source == Operator && e.Claim != "":
			later := cmp.Or(e.GatewayAt.Compare(decision.GatewayAt), cmp.Compare(e.Ground, decision.Ground)) > 0
			if e.Attempt == attempt && (decision.Claim == "" || later) {
				decision = e
			}
		case !e.Weak:
			named = append(named, e)
		}
		if e.Ground == 0 || e.Source != Operator {
			all = append(all, e)
		}
	}
	s := plainWeighAll(attempt, parts, named)
	if decision.Claim != "" {
		unknown := slices.DeleteFunc(slices.Clone(s.finals), func(f State) bool {
			return f == decision.Claim || slices.Contains(decision.Over.States(), f)
		})
		if len(unknown) == 0 {
			s.claim, s.finals, s.decided = decision, nil, true
		} else {
			if s.claim.Claim == "" || compareEvidence(decision, s.claim) > 0 {
				s.claim = decision
			}
			if decision.Claim.settles() && !slices.Contains(s.finals, decision.Claim) {
				s.finals = append(s.finals, decision.Claim)
				slices.SortFunc(s.finals, func(a, b State) int { return cmp.Compare(a.order(), b.order()) })
			}
		}
	}
	s.firm = s.claim
	open := s.inDoubt() || !s.decided && slices.Contains([]State{Accepted, Enroute, Unknown}, s.firm.Claim)
	if w := plainWeighAll(attempt, parts, all); open && compareShort(w.claim, s.claim) > 0 {
		s.claim, s.weak = w.claim, true
	}
	return s
}

// compareShort leaves aside what cannot make one claim stronger than another.
func compareShort(e, o Evidence) int {
	e.Code, e.Note, e.GatewayRef, e.Part = o.Code, o.Note, o.GatewayRef, o.Part
	return compareEvidence(e, o)
}

func plainWeighAll(attempt, parts int, evidence []Evidence) plainSubmission {
	s := plainSubmission{attempt: attempt}
	var byPart map[int]Evidence
	var refFrom Evidence
	consider := func(e Evidence) {
		if e.Claim.settles() && !slices.Contains(s.finals, e.Claim) {
			s.finals = append(s.finals, e.Claim)
		}
		if s.claim.Claim == "" || compareEvidence(e, s.claim) > 0 {
			s.claim = e
		}
	}
	partFinals := map[int][]State{}
	for _, e := range evidence {
		if e.Attempt != attempt {
			continue
		}
		if e.GatewayRef != "" && e.Ground == 0 && (refFrom.GatewayRef == "" || firstRef(e, refFrom) < 0) {
			refFrom = e
		}
		s.doubted = s.doubted || e.Claim == Doubtful && e.Ground == 0
		switch {
		case e.Claim == "":
		case e.Part > 0 && parts > 1 && e.Part <= parts:
			if byPart == nil {
				byPart = map[int]Evidence{}
			}
			if prior, seen := byPart[e.Part]; !seen || compareEvidence(e, prior) > 0 {
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
		consider(plainJoin(byPart, parts))
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

// plainJoin makes one claim for the whole message of what is claimed for its
// segments: delivered when all are, failed when one failed, and on its way as
// long as one is missing.
func plainJoin(byPart map[int]Evidence, parts int) Evidence {
	var failed, gone, moving, any Evidence
	delivered := 0
	for _, e := range byPart {
		if compareEvidence(e, any) > 0 {
			any = e
		}
		switch {
		case e.Claim == Delivered:
			delivered++
		case e.Claim.settles():
			if compareEvidence(e, failed) > 0 {
				failed = e
			}
		case e.Claim == Unknown:
			if compareEvidence(e, gone) > 0 {
				gone = e
			}
		default:
			if compareEvidence(e, moving) > 0 {
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

// compareEvidence orders evidence about the same submission and part: by rank, then
// source, the gateway's own time, the fixed order of states, and at last by
// everything else that can be told apart, so that no tie is left to the order
// of arrival.
func compareEvidence(e, o Evidence) int {
	return cmp.Or(
		cmp.Compare(e.Claim.rank(), o.Claim.rank()),
		cmp.Compare(e.Source.weight(), o.Source.weight()),
		e.GatewayAt.Compare(o.GatewayAt),
		cmp.Compare(e.Claim.order(), o.Claim.order()),
		strings.Compare(string(e.Cause), string(o.Cause)),
		strings.Compare(e.Code, o.Code),
		strings.Compare(e.Note, o.Note),
		strings.Compare(e.GatewayRef, o.GatewayRef),
		cmp.Compare(e.Part, o.Part),
	)
}

// plainCharge is the same as [Digest.Charge].
func plainCharge(attempt int, evidence []Evidence) Charge {
	best := map[int]Evidence{}
	for _, e := range evidence {
		if e.Attempt != attempt || !e.Charge.Told || e.Ground != 0 {
			continue
		}
		last, known := best[e.Part]
		if !known || cmp.Or(cmp.Compare(e.Source.weight(), last.Source.weight()), e.GatewayAt.Compare(last.GatewayAt),
			cmp.Compare(e.Charge.Micros, last.Charge.Micros), strings.Compare(e.Charge.Currency, last.Charge.Currency)) > 0 {
			best[e.Part] = e
		}
	}
	if whole, told := best[0]; told {
		return whole.Charge
	}
	var sum Charge
	for part := 1; part <= PartsMost; part++ {
		e, told := best[part]
		switch {
		case told && !sum.Told:
			sum = e.Charge
		case told && e.Charge.Currency == sum.Currency:
			sum.Micros += e.Charge.Micros
		}
	}
	return sum
}
