package delivery

import (
	"cmp"
	"encoding/binary"
	"slices"

	"calmpigeon.example/internal/core/octets"
)

// groundedClaim is a claim that can be withdrawn.
type groundedClaim struct {
	ground Ground
	weak   bool
	over   Endings
	partClaim
}

func (c groundedClaim) compare(o groundedClaim) int {
	return cmp.Or(cmp.Compare(c.ground, o.ground), cmp.Compare(c.part, o.part))
}

// decides reports whether the claim is a person's decision.
func (c groundedClaim) decides() bool { return c.best.source == Operator && c.part == 0 }

// ground joins a claim that can be withdrawn, unless it was.
func (d *Digest) ground(s *submitted, c groundedClaim) {
	if d.Withdrawn(c.ground) {
		return
	}
	i, ok := slices.BinarySearchFunc(s.grounded, c, groundedClaim.compare)
	switch {
	case ok:
		mine := &s.grounded[i]
		mine.weak, mine.over = mine.weak && c.weak, mine.over|c.over
		mine.join(c.partClaim)
	case d.rests(c.ground) || d.Grounds() < GroundsMost:
		s.grounded = slices.Insert(s.grounded, i, c)
	}
}

// withdraw takes out all that rests on a ground, for good.
func (d *Digest) withdraw(g Ground) {
	at, known := slices.BinarySearch(d.withdrawn, g)
	if known || !d.rests(g) && d.Grounds() >= GroundsMost {
		return
	}
	d.withdrawn = slices.Insert(d.withdrawn, at, g)
	for i := range d.submissions {
		s := &d.submissions[i]
		s.grounded = slices.DeleteFunc(s.grounded, func(c groundedClaim) bool { return c.ground == g })
		if len(s.grounded) == 0 {
			s.grounded = nil
		}
	}
}

// Withdrawn reports whether a ground was withdrawn.
func (d *Digest) Withdrawn(g Ground) bool {
	_, gone := slices.BinarySearch(d.withdrawn, g)
	return gone
}

// rests reports whether any claim rests on a ground.
func (d *Digest) rests(g Ground) bool {
	return slices.ContainsFunc(d.submissions, func(s submitted) bool {
		return slices.ContainsFunc(s.grounded, func(c groundedClaim) bool { return c.ground == g })
	})
}

// Grounds counts the grounds that claims rest on, and those withdrawn.
func (d *Digest) Grounds() int {
	n := len(d.withdrawn)
	for i, s := range d.submissions {
		for j, c := range s.grounded {
			first := j == 0 || s.grounded[j-1].ground != c.ground
			for _, before := range d.submissions[:i] {
				first = first && !slices.ContainsFunc(before.grounded, func(o groundedClaim) bool { return o.ground == c.ground })
			}
			if first {
				n++
			}
		}
	}
	return n
}

// Superseded are the grounds of weak claims about submissions of which better is
// known: somebody who names them has said how they ended, or that they were not
// taken.
func (d *Digest) Superseded() []Ground {
	var all []Ground
	for i := range d.submissions {
		s := &d.submissions[i]
		if len(s.grounded) == 0 || s.weigh(d.parts).open() {
			continue
		}
		for _, c := range s.grounded {
			if c.weak && !slices.Contains(all, c.ground) {
				all = append(all, c.ground)
			}
		}
	}
	return all
}

// Weak reports whether the outcome rests on a weak claim.
func (d *Digest) Weak() bool {
	return slices.ContainsFunc(d.submissions, func(s submitted) bool { return len(s.grounded) > 0 }) && d.Outcome().Weak
}

// Decided reports whether the outcome is what a person decided.
func (d *Digest) Decided() bool {
	return slices.ContainsFunc(d.submissions, func(s submitted) bool { return len(s.grounded) > 0 }) && d.Outcome().Decided
}

// Settled reports whether somebody who names the submission has said how it ended, or
// that it was not taken: what names no message does not belong to it.
func (d *Digest) Settled(attempt int) bool {
	i, ok := slices.BinarySearchFunc(d.submissions, attempt, submitted.compareAttempt)
	if !ok {
		return false
	}
	s := d.submissions[i].weigh(d.parts)
	return !s.open()
}

// firm are the claims of those who name the submission and were not withdrawn, by part, and
// the decision that holds; without a state if there is none.
func (s *submitted) firm() (claims []partClaim, decision groundedClaim) {
	if len(s.grounded) == 0 {
		return s.claims, decision
	}
	all := submitted{claims: slices.Clone(s.claims)}
	for _, c := range s.grounded {
		switch {
		case c.decides():
			if decision.best.state == "" || cmp.Or(cmp.Compare(c.best.at, decision.best.at), cmp.Compare(c.ground, decision.ground)) > 0 {
				decision = c
			}
		case !c.weak:
			all.join(c.partClaim)
		}
	}
	return all.claims, decision
}

// weakly are all claims, by part: those of nobody who names the submission, too.
func (s *submitted) weakly() (claims []partClaim, any bool) {
	firm, _ := s.firm()
	all := submitted{claims: slices.Clone(firm)}
	for _, c := range s.grounded {
		if c.weak && !c.decides() {
			all.join(c.partClaim)
			any = true
		}
	}
	return all.claims, any
}

func (c groundedClaim) appendBinary(b []byte) []byte {
	b = binary.LittleEndian.AppendUint64(b, uint64(c.ground))
	over := uint64(c.over) << 1
	if c.weak {
		over |= 1
	}
	return c.partClaim.appendBinary(binary.AppendUvarint(b, over))
}

func readGrounded(r *octets.Reader) (c groundedClaim) {
	if g := r.Take(8); g != nil {
		c.ground = Ground(binary.LittleEndian.Uint64(g))
	}
	over := r.Number(1<<17 - 1)
	c.weak, c.over = over&1 == 1, Endings(over>>1)
	c.partClaim = readPartClaim(r)
	return c
}

// Tried is a submission about which a person can decide, and the endings that are claimed of it.
type Tried struct {
	Attempt int
	Endings Endings
}

// Tried lists the submissions that were taken, or may have been, or of which an ending is claimed.
func (d *Digest) Tried() []Tried {
	var all []Tried
	for i := range d.submissions {
		s := &d.submissions[i]
		claims, _ := s.firm()
		out := submission{attempt: s.attempt, doubted: s.doubted}
		out.claims(claims, d.parts)
		out.firm = out.claim
		if s.attempt > 0 && (out.claim.state.Taken() || out.inDoubt()) {
			all = append(all, Tried{s.attempt, out.finals})
		}
	}
	return all
}

// Decisions are the grounds of the decisions that stand, in the order in which they were made.
func (d *Digest) Decisions() []Ground {
	var all []groundedClaim
	for _, s := range d.submissions {
		for _, c := range s.grounded {
			if c.decides() && !slices.ContainsFunc(all, func(o groundedClaim) bool { return o.ground == c.ground }) {
				all = append(all, c)
			}
		}
	}
	slices.SortFunc(all, func(a, b groundedClaim) int {
		return cmp.Or(cmp.Compare(a.best.at, b.best.at), cmp.Compare(a.ground, b.ground))
	})
	grounds := make([]Ground, len(all))
	for i, c := range all {
		grounds[i] = c.ground
	}
	return grounds
}
