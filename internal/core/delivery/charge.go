package delivery

import (
	"cmp"
	"encoding/binary"
	"slices"

	"calmpigeon.example/internal/core/octets"
)

// Charge is what a gateway says that a submission, or a segment of it, costs.
type Charge struct {
	Told     bool   // false: nobody said
	Micros   int64  // millionths of the unit of the currency
	Currency string // ISO 4217; empty: not said
}

// ChargeMost is the highest charge that is believed, in millionths: sums can be counted. A higher one was not told.
const ChargeMost = 1_000_000 * 1_000_000

// partCharge is what was charged for a part, as the best source told it last; part 0 is the whole message.
type partCharge struct {
	part   int
	source Source
	at     int64
	charge Charge
}

// charge joins what a fact says of a charge. What can be withdrawn charges nothing: a statement's bill is kept by
// itself, and is held against what was told before.
func (s *submitted) charge(e Evidence, at int64) {
	c := e.Charge
	if !c.Told || e.Ground != 0 || c.Micros > ChargeMost || c.Micros < -ChargeMost || len(c.Currency) > currencyMost {
		return
	}
	s.joinCharge(partCharge{within(e.Part, PartsMost), e.Source, at, c})
}

const currencyMost = 3

func (s *submitted) joinCharge(c partCharge) {
	i, ok := slices.BinarySearchFunc(s.charges, c.part, func(p partCharge, n int) int { return cmp.Compare(p.part, n) })
	if !ok {
		s.charges = slices.Insert(s.charges, i, c)
	} else if c.compare(s.charges[i]) > 0 {
		s.charges[i] = c
	}
}

// compare orders what was told of the same charge: by source, the gateway's own time, and then by the charge, so
// that no tie is left to the order of arrival.
func (c partCharge) compare(o partCharge) int {
	return cmp.Or(
		cmp.Compare(c.source.weight(), o.source.weight()),
		cmp.Compare(c.at, o.at),
		cmp.Compare(c.charge.Micros, o.charge.Micros),
		cmp.Compare(c.charge.Currency, o.charge.Currency),
	)
}

// Charge is what a submission costs by what its gateway told in replies, receipts and answers to questions: for the
// whole message, or else the sum of what it told of segments, in the currency of the first of them.
func (d *Digest) Charge(attempt int) Charge {
	i, ok := slices.BinarySearchFunc(d.submissions, attempt, submitted.compareAttempt)
	if !ok {
		return Charge{}
	}
	var sum Charge
	for _, c := range d.submissions[i].charges {
		switch {
		case c.part == 0:
			return c.charge
		case !sum.Told:
			sum = c.charge
		case c.charge.Currency == sum.Currency:
			sum.Micros += c.charge.Micros
		}
	}
	return sum
}

// charged reports whether any charge is known.
func (d *Digest) charged() bool {
	return slices.ContainsFunc(d.submissions, func(s submitted) bool { return s.charges != nil })
}

func appendCharges(b []byte, all []partCharge) []byte {
	b = binary.AppendUvarint(b, uint64(len(all)))
	for _, c := range all {
		b = binary.AppendUvarint(b, uint64(c.part))
		b = append(b, place(keptSources, c.source))
		b = binary.AppendVarint(b, c.at)
		b = binary.AppendVarint(b, c.charge.Micros)
		b = octets.AppendWord(b, c.charge.Currency)
	}
	return b
}

func readCharges(r *octets.Reader) (all []partCharge) {
	for range r.Number(PartsMost + 1) {
		c := partCharge{part: r.Number(PartsMost), source: octets.One(r, keptSources), at: r.Signed()}
		c.charge = Charge{Told: true, Micros: r.Signed(), Currency: r.Word()}
		if r.Bad() {
			return nil
		}
		all = append(all, c)
	}
	return all
}
