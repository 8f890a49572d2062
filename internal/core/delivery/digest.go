package delivery

import (
	"cmp"
	"encoding/binary"
	"errors"
	"hash/fnv"
	"math/bits"
	"slices"
	"time"

	"calmpigeon.example/internal/core/octets"
)

// Digest is what is known of a message in the shortest form from which its
// [Outcome] follows. It is a join: evidence may be added in any order and any
// number of times, in one piece or many, and digests made apart may be joined,
// with one and the same result. So a digest and one new fact tell as much as
// all facts together, and nothing has to be read back.
//
// The zero value knows nothing. A digest grows with the number of submissions
// and segments, by about a dozen bytes each, and not with the number of facts.
type Digest struct {
	parts       int // how many segments there are, as far as anybody said
	submissions []submitted
	withdrawn   []Ground // sorted
	known       []uint64 // fingerprints of facts, sorted; at most knownMost
}

// submitted is what is known of one submission.
type submitted struct {
	attempt int
	doubted bool // doubt was claimed
	ref     refClaim
	claims  []partClaim  // by part; part 0 is the whole message
	charges []partCharge // by part
	// grounded are the claims that can be withdrawn and were not, by ground and part.
	grounded []groundedClaim
}

// claim is what decides between claims; the rest of their evidence does not.
type claim struct {
	state  State
	source Source
	cause  Cause
	at     int64 // the gateway's time in microseconds, 0 if it gave none
}

// partClaim is the strongest claim about a part, and every ending claimed.
type partClaim struct {
	part   int
	best   claim
	finals Endings
}

// refClaim is who gave the gateway's id of a submission, and when.
type refClaim struct {
	ref    string
	source Source
	at     int64
}

const (
	// PartsMost is the largest number of segments of a message (TS 23.040
	// §9.2.3.24.1 counts them in an octet), and AttemptsMost that of
	// submissions.
	PartsMost    = 255
	AttemptsMost = 1<<15 - 1
	// knownMost bounds the facts that are remembered one by one.
	knownMost = 48
	// GroundsMost is how many grounds, withdrawn or not, the claims about a
	// message can rest on. What rests on more is not taken in.
	GroundsMost = 200
)

// Add joins one fact. Counts out of range are taken for not said.
func (d *Digest) Add(e Evidence) {
	d.parts = max(d.parts, within(e.Parts, PartsMost))
	if e.Withdraws != 0 {
		d.withdraw(e.Withdraws)
	}
	s := d.of(within(e.Attempt, AttemptsMost))
	at := micros(e.GatewayAt)
	if e.GatewayRef != "" && e.Ground == 0 {
		s.ref = s.ref.join(refClaim{e.GatewayRef, e.Source, at})
	}
	s.charge(e, at)
	if e.Claim == "" {
		return
	}
	c := partClaim{within(e.Part, PartsMost), claim{e.Claim, e.Source, e.Cause, at}, endings(e.Claim)}
	if e.Ground != 0 {
		d.ground(s, groundedClaim{e.Ground, e.Weak, e.Over, c})
		return
	}
	s.doubted = s.doubted || e.Claim == Doubtful
	s.join(c)
}

// Join joins all that another digest knows.
func (d *Digest) Join(o Digest) {
	d.parts = max(d.parts, o.parts)
	for _, g := range o.withdrawn {
		d.withdraw(g)
	}
	for _, theirs := range o.submissions {
		s := d.of(theirs.attempt)
		s.ref = s.ref.join(theirs.ref)
		s.doubted = s.doubted || theirs.doubted
		for _, c := range theirs.claims {
			s.join(c)
		}
		for _, c := range theirs.charges {
			s.joinCharge(c)
		}
		for _, c := range theirs.grounded {
			d.ground(s, c)
		}
	}
	for _, f := range o.known {
		d.remember(f)
	}
}

// Note adds a fact, and reports whether it is news: false if the very same was
// said before. Of a message about which very much has been said, what changes
// nothing is no news either.
func (d *Digest) Note(e Evidence) (news bool) {
	f := fingerprint(e)
	if _, known := slices.BinarySearch(d.known, f); known {
		return false
	}
	if len(d.known) >= knownMost {
		before := d.Clone()
		d.Add(e)
		return !d.Equal(before)
	}
	d.Add(e)
	d.remember(f)
	return true
}

func (d *Digest) remember(f uint64) {
	if at, known := slices.BinarySearch(d.known, f); !known && len(d.known) < knownMost {
		d.known = slices.Insert(d.known, at, f)
	}
}

// Ref is the gateway's id of a submission, empty if nobody told it.
func (d *Digest) Ref(attempt int) string {
	if i, ok := slices.BinarySearchFunc(d.submissions, attempt, submitted.compareAttempt); ok {
		return d.submissions[i].ref.ref
	}
	return ""
}

// Clone is a copy that may be changed by itself.
func (d *Digest) Clone() Digest {
	c := Digest{
		parts:       d.parts,
		submissions: slices.Clone(d.submissions),
		withdrawn:   slices.Clone(d.withdrawn),
		known:       slices.Clone(d.known),
	}
	for i := range c.submissions {
		c.submissions[i].claims = slices.Clone(c.submissions[i].claims)
		c.submissions[i].charges = slices.Clone(c.submissions[i].charges)
		c.submissions[i].grounded = slices.Clone(c.submissions[i].grounded)
	}
	return c
}

// Equal reports whether both say the same of a message.
func (d *Digest) Equal(o Digest) bool {
	same := func(a, b submitted) bool {
		return a.attempt == b.attempt && a.doubted == b.doubted && a.ref == b.ref && slices.Equal(a.claims, b.claims) &&
			slices.Equal(a.charges, b.charges) && slices.Equal(a.grounded, b.grounded)
	}
	return d.parts == o.parts && slices.Equal(d.withdrawn, o.withdrawn) && slices.EqualFunc(d.submissions, o.submissions, same)
}

// of is what is known of a submission, to be added to.
func (d *Digest) of(attempt int) *submitted {
	i, ok := slices.BinarySearchFunc(d.submissions, attempt, submitted.compareAttempt)
	if !ok {
		d.submissions = slices.Insert(d.submissions, i, submitted{attempt: attempt})
	}
	return &d.submissions[i]
}

func (s submitted) compareAttempt(n int) int { return cmp.Compare(s.attempt, n) }

func (s *submitted) join(c partClaim) {
	i, ok := slices.BinarySearchFunc(s.claims, c.part, func(p partClaim, n int) int { return cmp.Compare(p.part, n) })
	if !ok {
		s.claims = slices.Insert(s.claims, i, c)
		return
	}
	s.claims[i].join(c)
}

// join joins another claim about the same part.
func (c *partClaim) join(o partClaim) {
	c.finals |= o.finals
	if o.best.compare(c.best) > 0 {
		c.best = o.best
	}
}

// compare orders claims about the same submission and part: by rank, then
// source, the gateway's own time, the fixed order of states, and at last the
// cause, so that no tie is left to the order of arrival.
func (c claim) compare(o claim) int {
	return cmp.Or(
		cmp.Compare(c.state.rank(), o.state.rank()),
		cmp.Compare(c.source.weight(), o.source.weight()),
		cmp.Compare(c.at, o.at),
		cmp.Compare(c.state.order(), o.state.order()),
		cmp.Compare(c.cause, o.cause),
	)
}

// join prefers the id that the gateway gave first: from the reply, then the
// query, the receipt, the statement; then the latest, then by the text itself.
func (r refClaim) join(o refClaim) refClaim {
	switch {
	case o.ref == "":
		return r
	case r.ref == "":
		return o
	}
	if cmp.Or(cmp.Compare(r.source.names(), o.source.names()), cmp.Compare(r.at, o.at), cmp.Compare(o.ref, r.ref)) < 0 {
		return o
	}
	return r
}

func within(n, most int) int {
	if n < 0 || n > most {
		return 0
	}
	return n
}

func micros(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMicro()
}

// Endings is a set of final states, a bit for each in the order of [States].
type Endings uint16

// EndingsOf is the set of those of the states that end a message.
func EndingsOf(states ...State) Endings {
	var all Endings
	for _, s := range states {
		all |= endings(s)
	}
	return all
}

// endings is the set of a claim's ending; empty if it ends nothing.
func endings(s State) Endings {
	if !s.settles() {
		return 0
	}
	return 1 << s.order()
}

func (e Endings) several() bool { return bits.OnesCount16(uint16(e)) > 1 }

// States are the states of the set, in the order of the tally.
func (e Endings) States() []State {
	var all []State
	for i, state := range States {
		if e&(1<<i) != 0 {
			all = append(all, state)
		}
	}
	return all
}

// fingerprint tells facts apart. What was said twice in the same words has the
// same one.
func fingerprint(e Evidence) uint64 {
	h := fnv.New64a()
	var n [8]byte
	for _, word := range []string{string(e.Source), string(e.Claim), string(e.Cause), e.GatewayRef, e.Code, e.Note} {
		binary.LittleEndian.PutUint64(n[:], uint64(len(word)))
		h.Write(n[:])
		h.Write([]byte(word))
	}
	number := func(v uint64) {
		binary.LittleEndian.PutUint64(n[:], v)
		h.Write(n[:])
	}
	for _, v := range []int64{int64(e.Attempt), int64(e.Part), int64(e.Parts), micros(e.GatewayAt)} {
		number(uint64(v))
	}
	if e.Charge.Told {
		number(uint64(e.Charge.Micros))
		for _, letter := range []byte(e.Charge.Currency) {
			number(uint64(letter))
		}
	}
	if e.Ground != 0 || e.Withdraws != 0 {
		number(uint64(e.Ground))
		number(uint64(e.Withdraws))
		number(uint64(e.Over))
		if e.Weak {
			number(1)
		}
	}
	return h.Sum64()
}

// How a digest is kept: numbers as in encoding/binary, words by their place in
// lists that only grow. What knows of no grounds and no charges is kept in the first
// form, which older versions read.
const (
	digestForm         = 1
	digestFormGrounded = 2
	digestFormCharged  = 3
	digestFormBoth     = 4
)

// formOf is the form in which a digest is kept, and what of it tells.
func formOf(grounded, charged bool) byte {
	switch {
	case grounded && charged:
		return digestFormBoth
	case charged:
		return digestFormCharged
	case grounded:
		return digestFormGrounded
	}
	return digestForm
}

var (
	keptSources = []Source{"", Own, Reply, Receipt, Query, Statement, Operator, Clock}
	keptStates  = []State{
		"",
		Held,
		Queued,
		Sending,
		Doubtful,
		Accepted,
		Enroute,
		Delivered,
		Undeliverable,
		Expired,
		Rejected,
		Cancelled,
		Unknown,
	}
	keptCauses = []Cause{"", InvalidNumber, Absent, Barred, SenderRefused, ContentRefused, OptedOut, NoCredit, Limited,
		CredentialsRefused, GatewayFault, TooLate, Unfit, Unspecified}
)

// ErrDigest is returned for bytes that are no digest, or one of a later
// version: what is known has to be worked out from the evidence.
var ErrDigest = errors.New("not a digest that can be read")

// AppendBinary writes the digest as it is kept.
func (d *Digest) AppendBinary(b []byte) ([]byte, error) {
	grounded, charged := d.Grounds() > 0, d.charged()
	b = append(b, formOf(grounded, charged))
	b = binary.AppendUvarint(b, uint64(d.parts))
	b = binary.AppendUvarint(b, uint64(len(d.submissions)))
	for _, s := range d.submissions {
		flags := uint64(s.attempt) << 1
		if s.doubted {
			flags |= 1
		}
		b = binary.AppendUvarint(b, flags)
		b = binary.AppendUvarint(b, uint64(len(s.ref.ref)))
		if s.ref.ref != "" {
			b = append(b, s.ref.ref...)
			b = append(b, place(keptSources, s.ref.source))
			b = binary.AppendVarint(b, s.ref.at)
		}
		b = binary.AppendUvarint(b, uint64(len(s.claims)))
		for _, c := range s.claims {
			b = c.appendBinary(b)
		}
		if charged {
			b = appendCharges(b, s.charges)
		}
		if grounded {
			b = binary.AppendUvarint(b, uint64(len(s.grounded)))
			for _, c := range s.grounded {
				b = c.appendBinary(b)
			}
		}
	}
	if grounded {
		b = binary.AppendUvarint(b, uint64(len(d.withdrawn)))
		for _, g := range d.withdrawn {
			b = binary.LittleEndian.AppendUint64(b, uint64(g))
		}
	}
	b = binary.AppendUvarint(b, uint64(len(d.known)))
	for _, f := range d.known {
		b = binary.LittleEndian.AppendUint64(b, f)
	}
	return b, nil
}

func (c partClaim) appendBinary(b []byte) []byte {
	b = binary.AppendUvarint(b, uint64(c.part))
	b = binary.AppendUvarint(b, uint64(c.finals))
	b = append(b, place(keptStates, c.best.state), place(keptSources, c.best.source), place(keptCauses, c.best.cause))
	return binary.AppendVarint(b, c.best.at)
}

func readPartClaim(r *octets.Reader) partClaim {
	c := partClaim{part: r.Number(PartsMost), finals: Endings(r.Number(1<<16 - 1))}
	c.best = claim{octets.One(r, keptStates), octets.One(r, keptSources), octets.One(r, keptCauses), r.Signed()}
	return c
}

func place[T comparable](list []T, v T) byte { return byte(max(slices.Index(list, v), 0)) }

// UnmarshalBinary reads what AppendBinary wrote.
func (d *Digest) UnmarshalBinary(b []byte) error {
	r := octets.NewReader(b)
	form := r.Octet()
	if form < digestForm || form > digestFormBoth {
		return ErrDigest
	}
	grounded := form == digestFormGrounded || form == digestFormBoth
	charged := form == digestFormCharged || form == digestFormBoth
	out := Digest{parts: r.Number(PartsMost)}
	for range r.Number(AttemptsMost + 1) {
		flags := r.Number(2*AttemptsMost + 1)
		s := submitted{attempt: flags >> 1, doubted: flags&1 == 1}
		if n := r.Number(len(b)); n > 0 {
			s.ref.ref = string(r.Take(n))
			s.ref.source = octets.One(r, keptSources)
			s.ref.at = r.Signed()
		}
		for range r.Number(PartsMost + 1) {
			s.claims = append(s.claims, readPartClaim(r))
		}
		if charged {
			s.charges = readCharges(r)
		}
		if grounded {
			for range r.Number(GroundsMost * (PartsMost + 1)) {
				s.grounded = append(s.grounded, readGrounded(r))
				if r.Bad() {
					return ErrDigest
				}
			}
		}
		out.submissions = append(out.submissions, s)
		if r.Bad() {
			return ErrDigest
		}
	}
	if grounded {
		for range r.Number(GroundsMost) {
			if g := r.Take(8); g != nil {
				out.withdrawn = append(out.withdrawn, Ground(binary.LittleEndian.Uint64(g)))
			}
		}
	}
	for range r.Number(knownMost) {
		if f := r.Take(8); f != nil {
			out.known = append(out.known, binary.LittleEndian.Uint64(f))
		}
	}
	if !r.Whole() {
		return ErrDigest
	}
	*d = out
	return nil
}
