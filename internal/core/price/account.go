package price

import (
	"cmp"
	"maps"
	"slices"
)

// Sums are amounts in millionths by currency (ISO 4217). The empty currency stands for one that nobody named.
type Sums map[string]int64

// Add adds an amount.
func (s *Sums) Add(currency string, micros int64) {
	if *s == nil {
		*s = Sums{}
	}
	(*s)[currency] += micros
}

// Money lists the sums in the order of their currencies.
func (s Sums) Money() []Money {
	all := make([]Money, 0, len(s))
	for _, currency := range slices.Sorted(maps.Keys(s)) {
		all = append(all, Of(s[currency], currency))
	}
	return all
}

// Account is what messages cost that went to gateways, or may have: by our estimate, as the gateways told when they
// took them or later, and as their statements bill.
type Account struct {
	Messages  int64
	Estimated Sums
	Unpriced  int64 // messages of which we know no price
	Told      Charged
	Billed    Charged
	// Foreign is billed by lines that are about no message of ours.
	Foreign      Sums
	ForeignLines int64
	// Avoidable is what of the estimate characters cost that could be replaced safely, and of how many messages.
	Avoidable         Sums
	AvoidableMessages int64
}

// Charged is what gateways charge for messages, beside what was estimated for the same ones: of those of which both
// are known, in the same currency.
type Charged struct {
	N     int64 // messages that were charged for
	Sums  Sums
	Alike int64 // of them, those of which the estimate is known in the currency of the charge
	both  map[string]pair
}

type pair struct{ n, charged, estimated int64 }

// Add counts n messages that were charged for. priced is the currency of their estimate, empty if there is none.
func (c *Charged) Add(n int64, charged string, micros int64, priced string, estimated int64) {
	c.N += n
	c.Sums.Add(charged, micros)
	if charged == "" || charged != priced {
		return
	}
	c.Alike += n
	if c.both == nil {
		c.both = map[string]pair{}
	}
	p := c.both[charged]
	c.both[charged] = pair{p.n + n, p.charged + micros, p.estimated + estimated}
}

// Over is by how much charges are above what was estimated for the same messages, by currency; below nothing if
// they are less.
func (c Charged) Over() Sums {
	var over Sums
	for currency, p := range c.both {
		over.Add(currency, p.charged-p.estimated)
	}
	return over
}

// Excess is how far charges are above the estimate.
type Excess struct {
	Messages           int64
	Charged, Estimated Money
	Over               Money
	Share              float64 // of the estimate; 0 if nothing was estimated
}

const (
	// excessShare is the share of the estimate by which charges have to be above it to be of note: what lies below
	// is rounding. excessLeast is of how many messages.
	excessShare = 0.01
	excessLeast = 10
)

// Excess tells whether charges are above the estimate by more than one percent, of at least ten messages that have
// both in one currency. Of several currencies it is the one in which they are so by the largest share.
func (c Charged) Excess() (Excess, bool) {
	var all []Excess
	for currency, p := range c.both {
		over := p.charged - p.estimated
		if p.n < excessLeast || over <= 0 || float64(over) <= excessShare*float64(p.estimated) {
			continue
		}
		e := Excess{Messages: p.n, Charged: Of(p.charged, currency), Estimated: Of(p.estimated, currency), Over: Of(over, currency)}
		if p.estimated > 0 {
			e.Share = float64(over) / float64(p.estimated)
		}
		all = append(all, e)
	}
	if all == nil {
		return Excess{}, false
	}
	return slices.MaxFunc(all, func(a, b Excess) int {
		return cmp.Or(cmp.Compare(a.Share, b.Share), cmp.Compare(b.Over.Currency(), a.Over.Currency()))
	}), true
}
